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
		Short: "Import accounts from CSV or JSON",
		Long: `Adds new accounts from a file and updates existing ones: details in the file replace the old ones, and
roles are added. Nothing is removed. If one row has an error, nothing is imported.

The file is CSV with a header row (name; optionally email, roles, disabled, notes, hash), or JSON as
written by export; - is standard input. Separate roles with semicolons. Add an end as keeper@2027-03-31,
or a start and an end as keeper@2027-01-01..2027-03-31. Hashes must be argon2id; passwords are not read.
An account without a hash has no password yet; "people link" creates a link to set one.`,
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
	end := "nothing was changed: fix the lines with errors first"
	switch {
	case done.Done:
		end = "done"
	case dry && counts["error"] == 0:
		end = "nothing was changed: this was a dry run"
	}
	return fmt.Sprintf("%d new, %d changed, %d unchanged, %s; %s", counts["add"], counts["change"], counts["same"],
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
