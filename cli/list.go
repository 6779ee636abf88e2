package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"ostiarius/client"
)

// writeList writes what a command lists: as JSON, or as a table with a head and a row, or several, for
// each; and a sentence if there is none.
func writeList[T any](c *cobra.Command, format string, all []T, none, head string, row func(t io.Writer, one T)) error {
	if format == "json" {
		return writeJSON(c.OutOrStdout(), all)
	}
	if len(all) == 0 {
		fmt.Fprintln(c.OutOrStdout(), none)
		return nil
	}
	t := tabwriter.NewWriter(c.OutOrStdout(), 0, 0, 2, ' ', 0)
	fmt.Fprintln(t, head)
	for _, one := range all {
		row(t, one)
	}
	return t.Flush()
}

// importFlags adds the flags of a command that brings in a file, and returns how it is carried out: with
// the text of the file, and whether nothing is to change. Then it says what became of each line, and the
// exit code is 1 if one could not be taken.
func importFlags(c *cobra.Command) func(c *cobra.Command, file string,
	bring func(text string, dry bool) (any, []client.ImportedLine, error), end func(dry bool) string) error {
	dry := c.Flags().Bool("dry-run", false, "show what would happen, line by line, without changing anything")
	output := outputFlag(c, "table", "json")
	return func(c *cobra.Command, file string, bring func(text string, dry bool) (any, []client.ImportedLine, error),
		end func(dry bool) string) error {
		format, err := output()
		if err != nil {
			return err
		}
		text, err := readInput(c, file)
		if err != nil {
			return fmt.Errorf("the file can't be read: %w", err)
		}
		answer, lines, err := bring(string(text), *dry)
		if err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		if format == "json" {
			if answer != nil { // else it was written on the way
				err = writeJSON(c.OutOrStdout(), answer)
			}
		} else {
			t := tabwriter.NewWriter(c.OutOrStdout(), 0, 0, 2, ' ', 0)
			for _, l := range lines {
				say(t, "line %d\t%s\t%s\t%s\n", l.Line, l.Action, dash(l.Name), l.Detail)
			}
			err = t.Flush()
			if said := end(*dry); said != "" {
				say(c.OutOrStdout(), "%s\n", said)
			}
		}
		if err == nil && slices.ContainsFunc(lines, func(l client.ImportedLine) bool { return l.Action == "error" }) {
			return errSilent
		}
		return err
	}
}

// upTo fetches at most so many records, the newest first, part by part: fetch returns those from before a number, 0 for
// the newest.
func upTo[T any](limit int, number func(T) int64, fetch func(before int64, most int) ([]T, error)) ([]T, error) {
	if limit < 1 {
		return nil, errUsage{errors.New("--limit is a number from 1")}
	}
	all, before := []T{}, int64(0)
	for len(all) < limit {
		part, err := fetch(before, min(1000, limit-len(all)))
		if err != nil || len(part) == 0 {
			return all, err
		}
		all = append(all, part...)
		before = number(all[len(all)-1])
	}
	return all, nil
}
