package cli

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/core/event"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func newApply() *cobra.Command {
	c := &cobra.Command{
		Use:   "apply FILE",
		Short: "Apply a policy file in the running service",
		Long: `Sends a policy to the running service. The service checks it, replaces its own policy file, keeps the
version with its author and reason, and uses it immediately. The command shows which doors were added,
removed or changed, and what that opens and closes.

A policy with errors changes nothing. With --no-opening, neither does a policy that lets people in
where they couldn't go before. If the service's policy file has an edit that isn't active, nothing is
changed, unless you use --over-edit.

Directories in the policy are relative to the service's policy file.`,
		Example: `  ostiarius apply doors.yaml --comment "the log is for keepers" --data ./data
  ostiarius apply doors.yaml --no-opening
  ostiarius apply doors.yaml --dry-run`,
		Args: takes("FILE"),
	}
	comment := c.Flags().StringP("comment", "m", "", "reason, for the history")
	noOpening := c.Flags().Bool("no-opening", false, "refuse a policy that lets people in where they couldn't go before")
	over := overEditFlag(c)
	dry := c.Flags().Bool("dry-run", false, "only show what would change")
	service := dataFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		text, err := readFile(args[0])
		if err != nil {
			return err
		}
		if *dry {
			checked, err := client.CheckPolicy.Ask(c.Context(), service(), client.Draft{Text: string(text)})
			if err != nil {
				return err
			}
			writeFindingsIfAny(c.OutOrStdout(), args[0], text, checked.Findings)
			if !checked.OK {
				return errSilent
			}
			writeChanges(c.OutOrStdout(), checked.Changes, checked.Compared)
			fmt.Fprintln(c.OutOrStdout(), "nothing was applied")
			return nil
		}
		applied, err := client.ApplyPolicy.Ask(c.Context(), service(),
			client.Draft{Text: string(text), Comment: *comment, NoOpening: *noOpening, OverEdit: *over})
		var problem *client.Problem
		if errors.As(err, &problem) && len(problem.Findings) > 0 {
			writeFindingsIfAny(c.ErrOrStderr(), args[0], text, problem.Findings)
			return errors.New("the policy has errors; nothing was applied")
		}
		if problem != nil && len(problem.Opened) > 0 {
			writeDifferences(c.ErrOrStderr(), problem.Opened)
		}
		if err != nil {
			return orOver(err)
		}
		writeChanges(c.OutOrStdout(), applied.Changes, applied.Compared)
		say(c.OutOrStdout(), "version %d is active\n", applied.Version.ID)
		return nil
	}
	return c
}

func overEditFlag(c *cobra.Command) *bool {
	return c.Flags().Bool("over-edit", false, "overwrite an edit of the policy file that isn't active")
}

// orOver says how an edit of the file is written over, if that is what stood in the way.
func orOver(err error) error {
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Code == "file-edited" {
		return fmt.Errorf("%w Use --over-edit to overwrite it", err)
	}
	return err
}

func writeFindingsIfAny(w io.Writer, file string, text []byte, findings []document.Finding) {
	if len(findings) == 0 {
		return
	}
	for i := range findings {
		findings[i].File = file
	}
	writeFindings(w, file, text, findings)
}

func writeChanges(w io.Writer, changes []policy.Change, compared client.Compared) {
	if len(changes) == 0 {
		fmt.Fprintln(w, "no changes to the doors")
	}
	for _, change := range changes {
		switch change.Kind {
		case "added":
			say(w, "+ %s  %s  (line %d)\n", change.Door, change.After, change.Line)
		case "removed":
			say(w, "- %s  %s\n", change.Door, change.Before)
		default:
			say(w, "~ %s  %s -> %s  (line %d)\n", change.Door, change.Before, change.After, change.Line)
		}
	}
	switch {
	case compared.Unproven != "":
		say(w, "the effect could not be proven: %s\n", compared.Unproven)
	case len(changes)+len(compared.Differences) > 0:
		writeDifferences(w, compared.Differences)
	}
}

func newHistory() *cobra.Command {
	c := &cobra.Command{
		Use:     "history",
		Short:   "List the versions of the policy that have been active",
		Example: "  ostiarius history --data ./data",
		Args:    noArgs,
	}
	service := dataFlag(c)
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		all, err := client.ListVersions.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		return writeList(c, format, all, "no versions yet", "VERSION\tACTIVE SINCE\tBY\tCOMMENT", func(t io.Writer, v client.Version) {
			say(t, "%d\t%s\t%s\t%s\n", v.ID, when(&v.At, ""), v.By, dash(v.Comment))
		})
	}
	return c
}

func newShow() *cobra.Command {
	c := &cobra.Command{
		Use:     "show VERSION",
		Short:   "Print the text of a version of the policy",
		Example: "  ostiarius show 3 > doors.yaml",
		Args:    takes("VERSION"),
	}
	service := dataFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		id, err := versionNumber(args[0])
		if err != nil {
			return err
		}
		v, err := client.ShowVersion.Ask(c.Context(), service(), client.ByNumber{ID: id})
		if err != nil {
			return err
		}
		_, err = io.WriteString(c.OutOrStdout(), v.Text)
		return err
	}
	return c
}

func newRollback() *cobra.Command {
	c := &cobra.Command{
		Use:   "rollback VERSION",
		Short: "Restore an earlier version of the policy",
		Long: `Applies the text of an earlier version as a new version. The history is kept, so you can roll back
the rollback.`,
		Example: `  ostiarius rollback 3 --comment "the office was open" --data ./data`,
		Args:    takes("VERSION"),
	}
	comment := c.Flags().StringP("comment", "m", "", "reason, for the history")
	over := overEditFlag(c)
	service := dataFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		id, err := versionNumber(args[0])
		if err != nil {
			return err
		}
		applied, err := client.Rollback.Ask(c.Context(), service(),
			client.OlderVersion{ID: id, Draft: client.Draft{Comment: *comment, OverEdit: *over}})
		if err != nil {
			return orOver(err)
		}
		writeChanges(c.OutOrStdout(), applied.Changes, applied.Compared)
		say(c.OutOrStdout(), "version %d is active, with the text of version %d\n", applied.Version.ID, id)
		return nil
	}
	return c
}

func versionNumber(s string) (int64, error) {
	id, err := strconv.ParseInt(strings.TrimPrefix(s, "v"), 10, 64)
	if err != nil || id < 1 {
		return 0, errUsage{fmt.Errorf("%q isn't a version; versions are numbers from 1, `ostiarius history` lists them", s)}
	}
	return id, nil
}

func newSchema() *cobra.Command {
	c := &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the policy file, for editors, or of a shop's events",
		Long: `Prints the JSON Schema (2020-12) of the policy file. Editors that know it complete keys
and mark errors while you type; the running service has it at /door/policy.schema.json.
With --of event it prints the schema of a shop's events.`,
		Example: "  ostiarius schema > policy.schema.json\n  ostiarius schema --of event",
		Args:    noArgs,
	}
	of := choice(c.Flags(), "of", "schema to print", "policy", "event")
	c.RunE = func(c *cobra.Command, _ []string) error {
		what, err := of()
		if err != nil {
			return err
		}
		text := read.Schema()
		if what == "event" {
			text = event.Schema()
		}
		_, err = c.OutOrStdout().Write(text)
		return err
	}
	return c
}
