package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"ostiarius/core/secret"
)

// newPassword adds the flags that say what a generated password is made of, and returns a function that makes one.
func newPassword(c *cobra.Command) func() (string, error) {
	words := c.Flags().Int("words", 0, "generate a password of this many random words")
	length := c.Flags().Int("length", 0, "generate a password of this many random characters")
	all := c.Flags().Bool("all-characters", false, "use all characters, including similar ones")
	return func() (string, error) {
		switch {
		case *words != 0 && (*length != 0 || *all):
			return "", errUsage{errors.New("--words can't be used with --length or --all-characters")}
		case c.Flags().Changed("words"):
			if *words < 4 || *words > 12 {
				return "", errUsage{errors.New("--words is a number from 4 to 12")}
			}
			return secret.GenerateWords(*words)
		case !c.Flags().Changed("length"):
			*length = 20
		case *length < secret.LeastGenerated || *length > secret.MostGenerated:
			return "", errUsage{fmt.Errorf("--length is a number from %d to %d", secret.LeastGenerated, secret.MostGenerated)}
		}
		return secret.GenerateCharacters(*length, !*all), nil
	}
}

func newPasswordCommand() *cobra.Command {
	c := &cobra.Command{
		Use:     "password",
		Short:   "Generate a password",
		Long:    "Prints a random password, of characters or of words. Nothing is stored.",
		Example: "  ostiarius password\n  ostiarius password --length 32 --all-characters\n  ostiarius password --words 5",
		Args:    noArgs,
	}
	make := newPassword(c)
	c.RunE = func(c *cobra.Command, _ []string) error {
		password, err := make()
		if err == nil {
			fmt.Fprintln(c.OutOrStdout(), password)
		}
		return err
	}
	return c
}
