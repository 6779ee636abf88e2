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
		Short: "Bring a policy file into force in the running service",
		Long: `Sends a policy to the running service, which checks it, replaces its own policy file,
keeps the version with who applied it and why, and judges the next request by it. The
doors that were added, removed or changed are shown, and what that opens and closes. A
faulty policy changes nothing; with --no-opening, neither does one that lets anybody in
anywhere who could not get in before. Nor is anything changed if the service's policy file
has been edited and that is not in force, unless --over-edit says so.

Directories in the policy are relative to the service's policy file.`,
		Example: `  ostiarius apply doors.yaml --comment "the log is for keepers" --data ./data
  ostiarius apply doors.yaml --no-opening
  ostiarius apply doors.yaml --dry-run`,
		Args: takes("FILE"),
	}
	comment := c.Flags().StringP("comment", "m", "", "why, for the history")
	noOpening := c.Flags().Bool("no-opening", false, "refuse a policy that opens anything to anybody")
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
		say(c.OutOrStdout(), "version %d is in force\n", applied.Version.ID)
		return nil
	}
	return c
}

func overEditFlag(c *cobra.Command) *bool {
	return c.Flags().Bool("over-edit", false, "also over an edit of the policy file that is not in force")
}

// orOver says how an edit of the file is written over, if that is what stood in the way.
func orOver(err error) error {
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Code == "file-edited" {
		return fmt.Errorf("%w That is done with --over-edit", err)
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
		fmt.Fprintln(w, "the doors are the same")
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
		say(w, "what this opens could not be proven: %s\n", compared.Unproven)
	case len(changes)+len(compared.Differences) > 0:
		writeDifferences(w, compared.Differences)
	}
}

func newHistory() *cobra.Command {
	c := &cobra.Command{
		Use:     "history",
		Short:   "List the versions of the policy that have been in force",
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
		return writeList(c, format, all, "no version is kept", "VERSION\tIN FORCE SINCE\tBY\tCOMMENT", func(t io.Writer, v client.Version) {
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
		Short: "Bring an earlier version of the policy into force again",
		Long: `Applies the text of an earlier version, as a new version: nothing of the history is
lost, and the rollback can be rolled back.`,
		Example: `  ostiarius rollback 3 --comment "the office was open" --data ./data`,
		Args:    takes("VERSION"),
	}
	comment := c.Flags().StringP("comment", "m", "", "why, for the history")
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
		say(c.OutOrStdout(), "version %d is in force, with the text of version %d\n", applied.Version.ID, id)
		return nil
	}
	return c
}

func versionNumber(s string) (int64, error) {
	id, err := strconv.ParseInt(strings.TrimPrefix(s, "v"), 10, 64)
	if err != nil || id < 1 {
		return 0, errUsage{fmt.Errorf("%q is no version; versions are numbers from 1, `ostiarius history` lists them", s)}
	}
	return id, nil
}

func newSchema() *cobra.Command {
	c := &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the policy file, for editors, or of a shop's events",
		Long: `Prints the JSON Schema (2020-12) of the policy file. Editors that know it complete keys
and mark errors while you type; the running service has it at /door/policy.schema.json.
With --of event it is that of the events that a shop sends.`,
		Example: "  ostiarius schema > policy.schema.json\n  ostiarius schema --of event",
		Args:    noArgs,
	}
	of := choice(c.Flags(), "of", "what it is the schema of", "policy", "event")
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
