package cli

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

// bookOf reads a text that a command is to work with. What is wrong with it goes to standard error, and
// the error ends the command.
func bookOf(c *cobra.Command, name string, text []byte) (*policy.Book, error) {
	book, findings := read.Parse(name, text)
	if book == nil {
		writeFindings(c.ErrOrStderr(), name, text, findings)
		return nil, errSilent
	}
	return book, nil
}

// bookIn is bookOf for a file.
func bookIn(c *cobra.Command, file string) (*policy.Book, error) {
	text, err := readFile(file)
	if err != nil {
		return nil, err
	}
	return bookOf(c, file, text)
}

// bookNamed is bookOf for a file, or for a version of the running service by its number.
func bookNamed(c *cobra.Command, service func() *client.Client, name string) (*policy.Book, error) {
	text, err := readFile(name)
	if errors.Is(err, os.ErrNotExist) {
		if id, number := versionNumber(name); number == nil {
			v, failed := client.ShowVersion.Ask(c.Context(), service(), client.ByNumber{ID: id})
			text, err = []byte(v.Text), failed
		}
	}
	if err != nil {
		return nil, err
	}
	return bookOf(c, name, text)
}

// bookFor is the policy that a command is to work with: that of a file, or of the running service if the
// name is "". It returns what to call it.
func bookFor(c *cobra.Command, service func() *client.Client, file string) (*policy.Book, string, error) {
	if file != "" {
		book, err := bookIn(c, file)
		return book, file, err
	}
	v, err := client.ShowPolicy.Ask(c.Context(), service(), client.None{})
	if err != nil {
		return nil, "", orFile(err)
	}
	name := fmt.Sprintf("version %d", v.ID)
	book, err := bookOf(c, name, []byte(v.Text))
	return book, name, err
}

// orFile adds to an error of the service that there is another way.
func orFile(err error) error { return fmt.Errorf("%w; or give a file with --policy", err) }
