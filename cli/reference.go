package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
)

// Reference returns the reference of all commands as Markdown, from their own help.
func Reference() string {
	var b strings.Builder
	b.WriteString("# Commands\n\nWritten by `make docs` from the commands' own help; a test holds it to that.\n\n")
	b.WriteString("Errors go to standard error in one line. Exit codes: 0 done, 1 it could not be done or a check\nfound errors, 2 the " +
		"command line makes no sense. Each flag can be set by a variable:\n`--tls-cert` by `OSTIARIUS_TLS_CERT`.\n")
	var write func(c *cobra.Command)
	write = func(c *cobra.Command) {
		if c.Name() == "help" || c.Name() == "completion" || c.Hidden {
			return
		}
		fmt.Fprintf(&b, "\n## %s\n\n%s.\n", c.CommandPath(), c.Short)
		if c.Long != "" {
			fmt.Fprintf(&b, "\n%s\n", c.Long)
		}
		if c.Runnable() && !c.HasSubCommands() {
			fmt.Fprintf(&b, "\n    %s\n", c.UseLine())
		}
		if c.Example != "" {
			fmt.Fprintf(&b, "\nExample:\n\n```sh\n%s\n```\n", unindent(c.Example))
		}
		c.InitDefaultHelpFlag()
		if flags := c.LocalFlags().FlagUsages(); strings.Count(flags, "\n") > 1 {
			fmt.Fprintf(&b, "\n```\n%s```\n", flags)
		}
		for _, sub := range c.Commands() {
			write(sub)
		}
	}
	write(newRoot())
	return b.String()
}

func unindent(s string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = strings.TrimPrefix(lines[i], "  ")
	}
	return strings.Join(lines, "\n")
}
