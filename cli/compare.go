package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"ostiarius/core/policy"
	"ostiarius/core/prove"
)

func newCompare() *cobra.Command {
	c := &cobra.Command{
		Use:   "compare OLD NEW",
		Short: "Show exactly what a policy change opens and closes",
		Long: `Compares two policies for all places and visitors, and shows where they decide differently, each
with the smallest request and visitor that proves it. Only decisions count, not how the policies
are written.

OLD and NEW are files, or version numbers of the running service.

Exit code 0: no change; 1: changes; 2: wrong usage, or a policy with errors.`,
		Example: `  ostiarius compare doors.yaml draft.yaml
  ostiarius compare 3 doors.yaml --data ./data -o json`,
		Args: takes("OLD", "NEW"),
	}
	service := dataFlag(c)
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		var books [2]*policy.Book
		for i, name := range args {
			if books[i], err = bookNamed(c, service, name); errors.Is(err, errSilent) {
				err = fmt.Errorf("%s has errors and can't be compared", name)
			}
			if err != nil {
				return errUsage{err}
			}
		}
		differences, err := prove.Compare(books[0], books[1])
		if err != nil {
			return errUsage{err}
		}
		if format == "json" {
			err = writeJSON(c.OutOrStdout(), map[string]any{"changes": differences})
		} else {
			writeDifferences(c.OutOrStdout(), differences)
		}
		if err == nil && len(differences) > 0 {
			return errSilent
		}
		return err
	}
	return c
}

func writeDifferences(w io.Writer, differences []prove.Difference) {
	if len(differences) == 0 {
		fmt.Fprintln(w, "no changes, for any place or visitor")
		return
	}
	for _, effect := range []string{"opened", "closed", "other"} {
		first := true
		for _, d := range differences {
			if d.Effect != effect {
				continue
			}
			if first {
				say(w, "%s\n", effect)
				first = false
			}
			say(w, "  %s %s%s as %s\n      before  %s, by %s\n      after   %s, by %s\n", d.Witness.Method, d.Witness.Host, d.Witness.Path,
				d.Witness.Visitor,
				d.Before, named(d.BeforeDoors), d.After, named(d.AfterDoors))
		}
	}
}

func named(doors []policy.DoorRef) string {
	var names []string
	for _, d := range doors {
		if d.Line == 0 {
			names = append(names, d.Path+" (built in)")
			continue
		}
		names = append(names, fmt.Sprintf("line %d (%s)", d.Line, d.Path))
	}
	return strings.Join(names, " and ")
}
