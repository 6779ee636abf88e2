package cli

import (
	"io"
	"ostiarius/client"

	"github.com/spf13/cobra"
)

func newUpstreams() *cobra.Command {
	c := &cobra.Command{
		Use:     "upstreams",
		Short:   "Show the state of upstream servers",
		Example: "  ostiarius upstreams --data ./data",
		Args:    noArgs,
	}
	service := dataFlag(c)
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		all, err := client.ListUpstreams.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		return writeList(c, format, all, "the policy has no upstream servers", "SERVER\tSTATE\tLAST ANSWER\tLAST FAILURE\tWHY",
			func(t io.Writer, u client.Upstream) {
				state := "not asked yet"
				switch {
				case u.InARow > 0:
					state = amount(u.InARow, "failure") + " in a row"
				case u.Answered != nil:
					state = "answers"
				}
				say(t, "%s\t%s\t%s\t%s\t%s\n", u.Address, state, when(u.Answered, "never"), when(u.Failed, "never"), dash(u.Why))
			})
	}
	return c
}
