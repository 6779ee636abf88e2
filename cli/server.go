package cli

import (
	"fmt"
	"os"
	"strings"

	"ostiarius/client"
)

// elsewhere returns the client of a service at the address of its site, with the access key of a file, or of the environment. What
// is wrong with either is what the client says when it is asked.
func elsewhere(server, keyFile string) *client.Client {
	key := os.Getenv("OSTIARIUS_ACCESS_KEY")
	if keyFile != "" {
		text, err := os.ReadFile(keyFile)
		if err != nil {
			return client.Failing(fmt.Errorf("the access key can't be read: %w", err))
		}
		key = string(text)
	}
	return client.NewServer(server, strings.TrimSpace(key))
}
