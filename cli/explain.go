package cli

import (
	"io"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/policy"
)

func newExplain() *cobra.Command {
	c := &cobra.Command{
		Use:   "explain METHOD URL",
		Short: "Show what a visitor would get at an address, and why",
		Long: `Decides a request like the service and shows the reasons, step by step. With --policy it reads a
file; without, it asks the running service, which also knows the roles of its accounts.

A visitor is written as ` + policy.WhoForms + `.`,
		Example: `  ostiarius explain GET /office/ --policy doors.yaml --as role:volunteer
  ostiarius explain POST https://marram.example/log/ --policy doors.yaml --as anonymous --client api
  ostiarius explain GET /office/ --policy doors.yaml --as role:trustee,proof-age:20m -o json`,
		Args: takes("METHOD", "URL"),
	}
	file := c.Flags().String("policy", "", "policy file; without it the running service is asked")
	who := c.Flags().String("as", "anonymous", "the visitor")
	kind := c.Flags().String("client", "browser", "who sends the request: browser, script or api")
	service := dataFlag(c)
	output := outputFlag(c, "text", "json")
	c.MarkFlagFilename("policy", "yaml", "yml")
	c.RegisterFlagCompletionFunc("client", cobra.FixedCompletions([]string{"browser", "script", "api"}, cobra.ShellCompDirectiveNoFileComp))
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		request, query, err := policy.ReadRequest(args[0], args[1])
		if err != nil {
			return errUsage{err}
		}
		visitor, err := policy.ParseVisitor(*who)
		if err != nil {
			return errUsage{err}
		}
		sends, err := policy.ParseClient(*kind)
		if err != nil {
			return errUsage{err}
		}
		var e policy.Explanation
		if *file == "" {
			if e, err = client.Explain.Ask(c.Context(), service(),
				client.Question{Method: args[0], URL: args[1], As: *who, Client: *kind}); err != nil {
				return orFile(err)
			}
		} else {
			book, err := bookIn(c, *file)
			if err != nil {
				return err
			}
			for _, role := range visitor.Roles {
				if !book.KnownRole(role) {
					say(c.ErrOrStderr(), "ostiarius: note: the policy has no role %q\n", role)
				}
			}
			e = book.Explain(request, &visitor, sends, query)
		}
		if format == "json" {
			return writeJSON(c.OutOrStdout(), e)
		}
		writeExplanation(c.OutOrStdout(), e)
		return nil
	}
	return c
}

func writeExplanation(w io.Writer, e policy.Explanation) {
	say(w, "%s\n\n", e.Outcome)
	for i, step := range e.Steps {
		say(w, "%2d. %s\n", i+1, step.Text)
	}
}
