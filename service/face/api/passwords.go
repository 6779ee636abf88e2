package api

import (
	"ostiarius/client"
	"ostiarius/core/secret"
	"ostiarius/service/base/mistake"
)

func init() {
	On(client.EstimatePassword, (*API).estimate)
	On(client.GeneratePassword, func(_ *API, _ Caller, asked client.Generate) (client.Generated, error) {
		password, err := generate(asked)
		strength := secret.Estimate(password)
		return client.Generated{Password: password, Strength: client.Strength{Bits: strength.Bits, Word: strength.Word}}, err
	})
}

func generate(asked client.Generate) (string, error) {
	switch {
	case asked.Words == 0 && asked.Length == 0:
		return secret.Generate(), nil
	case asked.Words == 0 && (asked.Length < secret.LeastGenerated || asked.Length > secret.MostGenerated):
		return "", mistake.Invalid("A generated password has between %d and %d characters.", secret.LeastGenerated, secret.MostGenerated)
	case asked.Words == 0:
		return secret.GenerateCharacters(asked.Length, asked.Readable), nil
	case asked.Words < 4 || asked.Words > 12:
		return "", mistake.Invalid("A generated password has between 4 and 12 words.")
	}
	return secret.GenerateWords(asked.Words)
}

func (a *API) estimate(_ Caller, asked client.Estimated) (client.Strength, error) {
	s := a.People.Strength(asked.Password, asked.Name)
	shown := client.Strength{Bits: s.Bits, Word: s.Word}
	if err := secret.CheckNew(asked.Password, a.Policy.Book().Site, asked.Name); err != nil {
		shown.Word, shown.Advice = "refused", err.Error()
	}
	return shown, nil
}
