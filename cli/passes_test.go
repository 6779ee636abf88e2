package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ostiarius/client"
)

// serving is a data directory whose service is a stand-in.
func serving(t *testing.T, service http.HandlerFunc) (dir string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "data") // a socket has a short name
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	l, err := net.Listen("unix", filepath.Join(dir, client.SocketName))
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{Handler: service}
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return dir
}

// What was issued is shown although something goes wrong after it: nobody else knows those passwords.
func TestImportShowsWhatWasIssued(t *testing.T) {
	var out, errOut bytes.Buffer
	asked := 0
	dir := serving(t, func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasSuffix(r.URL.Path, "/passes/import") {
			http.NotFound(w, r)
			return
		}
		var in client.PassesImport
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			t.Error(err)
		}
		if asked++; asked == 3 {
			http.Error(w, "no space left", http.StatusInternalServerError)
			return
		}
		if shown := strings.Count(out.String(), `"password"`); asked == 2 && shown != importedAtOnce {
			t.Errorf("%d are shown before the next are issued", shown)
		}
		answer := client.ImportedPasses{}
		for i := range strings.Count(in.File, "\n") - 1 {
			answer.Lines = append(answer.Lines, client.ImportedLine{Line: i + 2, Action: "add", Name: "x"})
			answer.Issued = append(answer.Issued, client.IssuedPass{Password: fmt.Sprint("secret-", asked, "-", i)})
		}
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(answer)
	})
	list := "address\n" + strings.Repeat("buyer@marram.example\n", 2*importedAtOnce+7)
	code := Main([]string{"passes", "import", "recordings", "-", "--no-mail", "-o", "json", "--data", dir}, strings.NewReader(list),
		&out, &errOut)
	var shown client.ImportedPasses
	if err := json.Unmarshal(out.Bytes(), &shown); err != nil || len(shown.Issued) != 2*importedAtOnce ||
		len(shown.Lines) != 2*importedAtOnce {
		t.Errorf("%d issued, %d lines, %v", len(shown.Issued), len(shown.Lines), err)
	}
	if code != 1 || !strings.Contains(errOut.String(), "1000 were issued before") {
		t.Errorf("exit code %d, %s", code, &errOut)
	}
}
