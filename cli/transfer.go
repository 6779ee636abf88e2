package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"ostiarius/client"
)

func peopleImport(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Bring in accounts from CSV or JSON",
		Long: `Adds the accounts of a file that are new, and changes the others: details that are given
are taken over, roles are added, nothing is taken away. If one line cannot be taken, nothing
is. The file is CSV with a head line of name, email, roles, disabled, notes and hash (all
but name can be left out), or JSON as export writes it; - is standard input. Roles are
separated by semicolons; an end follows in the form keeper@2027-03-31, a beginning and an
end as keeper@2027-01-01..2027-03-31. The hash is one of
argon2id; passwords themselves are not read. Without a hash an account has no password yet;
people link makes a link to set one.`,
		Example: `  ostiarius people import people.csv --dry-run
  ostiarius people import people.csv`,
		Args: takes("FILE"),
	}
	bringIn := importFlags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		var done client.Imported
		return bringIn(c, args[0], func(text string, dry bool) (any, []client.ImportedLine, error) {
			if lines := strings.Count(text, "\n"); lines > 2000 && isTerminal(c.ErrOrStderr()) {
				say(c.ErrOrStderr(), "%d lines; this takes a while ...\n", lines)
			}
			var err error
			done, err = client.ImportPeople.Ask(c.Context(), service(), client.Import{Dry: dry, File: text})
			return done, done.Results, err
		}, func(dry bool) string { return imported(done, dry) })
	}
	return c
}

// readInput reads a file, or standard input if the name is -.
func readInput(c *cobra.Command, name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(c.InOrStdin())
	}
	return os.ReadFile(name)
}

// imported says in a line what became of an import, or would.
func imported(done client.Imported, dry bool) string {
	counts := map[string]int{}
	for _, l := range done.Results {
		counts[l.Action]++
	}
	end := "nothing was changed: mend the lines with errors first"
	switch {
	case done.Done:
		end = "done"
	case dry && counts["error"] == 0:
		end = "nothing was changed: this was a dry run"
	}
	return fmt.Sprintf("%d to add, %d to change, %d the same, %s; %s", counts["add"], counts["change"], counts["same"],
		amount(counts["error"], "error"), end)
}

func peopleExport(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "export",
		Short: "Write all accounts as CSV or JSON, without their passwords",
		Example: `  ostiarius people export > people.csv
  ostiarius people export -o json > people.json`,
		Args: noArgs,
	}
	output := outputFlag(c, "csv", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		export := client.ExportPeopleCSV
		if format == "json" {
			export = client.ExportPeople
		}
		text, err := export.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		_, err = c.OutOrStdout().Write(text)
		return err
	}
	return c
}
