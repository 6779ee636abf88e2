package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/pflag"

	"ostiarius/service/rooms"
)

// secretVariable begins the names of the variables that have this site's secrets at providers: OSTIARIUS_ELSEWHERE_SECRET_HARBOUR.
const secretVariable = "OSTIARIUS_ELSEWHERE_SECRET_"

// elsewhereFlags adds the flags for accounts elsewhere, and returns what reads them.
func elsewhereFlags(flags *pflag.FlagSet) func(to *rooms.Elsewhere) error {
	files := flags.StringSlice("elsewhere-secret-file", nil, "NAME=FILE: file with this site's secret at the provider that the "+
		"policy calls NAME; or set OSTIARIUS_ELSEWHERE_SECRET_NAME")
	at := flags.StringSlice("elsewhere-at", nil, "NAME=URL: where the provider's configuration is, if not at its issuer, such as an "+
		"address within the network")
	return func(to *rooms.Elsewhere) error {
		to.Secrets, to.At = map[string]string{}, map[string]string{}
		for _, entry := range os.Environ() {
			if name, value, ok := strings.Cut(entry, "="); ok && strings.HasPrefix(name, secretVariable) {
				to.Secrets[strings.ReplaceAll(strings.ToLower(strings.TrimPrefix(name, secretVariable)), "_", "-")] = value
			}
		}
		for _, entry := range *files {
			name, file, ok := strings.Cut(entry, "=")
			if !ok || name == "" {
				return errUsage{fmt.Errorf("--elsewhere-secret-file %q must have the form NAME=FILE", entry)}
			}
			text, err := os.ReadFile(file)
			if err != nil {
				return fmt.Errorf("the secret of this site at %s can't be read: %w", name, err)
			}
			to.Secrets[name] = strings.TrimSpace(string(text))
		}
		for _, entry := range *at {
			name, address, ok := strings.Cut(entry, "=")
			if !ok || name == "" || !strings.HasPrefix(address, "https://") && !strings.HasPrefix(address, "http://") {
				return errUsage{fmt.Errorf("--elsewhere-at %q must have the form NAME=URL", entry)}
			}
			to.At[name] = address
		}
		return nil
	}
}
