package api

import (
	"fmt"
	"net/http"

	"ostiarius/client"
	"ostiarius/core/secret"
)

func (a *API) generate(w http.ResponseWriter, r *http.Request) {
	var asked client.Generate
	if !a.read(w, r, &asked, maxBody) {
		return
	}
	var password string
	switch {
	case asked.Words == 0 && asked.Length == 0:
		password = secret.Generate()
	case asked.Words == 0:
		if asked.Length < secret.LeastGenerated || asked.Length > secret.MostGenerated {
			a.problem(w, http.StatusUnprocessableEntity, fmt.Sprintf("A generated password has between %d and %d characters.", secret.LeastGenerated, secret.MostGenerated))
			return
		}
		password = secret.GenerateCharacters(asked.Length, asked.Readable)
	case asked.Words < 4 || asked.Words > 12:
		a.problem(w, http.StatusUnprocessableEntity, "A generated password has between 4 and 12 words.")
		return
	default:
		var err error
		if password, err = secret.GenerateWords(asked.Words); err != nil {
			a.fail(w, err)
			return
		}
	}
	strength := secret.Estimate(password)
	a.answer(w, http.StatusOK, client.Generated{Password: password, Strength: client.Strength{Bits: strength.Bits, Word: strength.Word}})
}
