package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"ostiarius/client"
)

var transferColumns = []string{"name", "email", "roles", "disabled", "notes", "hash"}

func peopleImport(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Bring in accounts from CSV or JSON",
		Long: `Adds the accounts of a file that are new, and changes the others: details that are given
are taken over, roles are added, nothing is taken away. If one line cannot be taken, nothing
is. The file is CSV with a head line of name, email, roles, disabled, notes and hash (all
but name can be left out), or JSON as export writes it; - is standard input. Roles are
separated by semicolons; an end follows in the form keeper@2027-03-31. The hash is one of
argon2id; passwords themselves are not read. Without a hash an account has no password yet;
people link makes a link to set one.`,
		Example: `  ostiarius people import people.csv --dry-run
  ostiarius people import people.csv`,
		Args: takes("FILE"),
	}
	dry := c.Flags().Bool("dry-run", false, "say line by line what would happen, and change nothing")
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		text, err := readInput(c, args[0])
		if err != nil {
			return fmt.Errorf("the accounts cannot be read: %w", err)
		}
		all, err := readPeople(args[0], text)
		if err != nil {
			return err
		}
		if len(all) > 2000 && isTerminal(c.ErrOrStderr()) {
			fmt.Fprintf(c.ErrOrStderr(), "%d accounts; this takes a while ...\n", len(all))
		}
		done, err := service().ImportPeople(c.Context(), client.Import{Dry: *dry, People: all})
		if err != nil {
			return err
		}
		if format == "json" {
			err = writeJSON(c.OutOrStdout(), done)
		} else {
			err = writeImported(c.OutOrStdout(), done, *dry)
		}
		if err == nil && slices.ContainsFunc(done.Results, func(l client.ImportedLine) bool { return l.Action == "error" }) {
			return errSilent
		}
		return err
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

func writeImported(w io.Writer, done client.Imported, dry bool) error {
	counts := map[string]int{}
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, l := range done.Results {
		counts[l.Action]++
		fmt.Fprintf(t, "line %d\t%s\t%s\t%s\n", l.Line, l.Action, l.Name, l.Detail)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	end := "nothing was changed: mend the lines with errors first"
	switch {
	case done.Done:
		end = "done"
	case dry && counts["error"] == 0:
		end = "nothing was changed: this was a dry run"
	}
	_, err := fmt.Fprintf(w, "%d to add, %d to change, %d the same, %s; %s\n", counts["add"], counts["change"], counts["same"], amount(counts["error"], "error"), end)
	return err
}

// readPeople reads accounts from CSV, or from JSON if the text begins with a bracket.
func readPeople(name string, text []byte) ([]client.ImportPerson, error) {
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	if trimmed := bytes.TrimSpace(text); len(trimmed) > 0 && trimmed[0] == '[' {
		return readPeopleJSON(name, trimmed)
	}
	table := csv.NewReader(bytes.NewReader(text))
	head, err := table.Read()
	if err != nil {
		return nil, fmt.Errorf("%s has no head line; write name,email,roles", name)
	}
	for i, column := range head {
		head[i] = strings.ToLower(strings.TrimSpace(column))
		if !slices.Contains(transferColumns, head[i]) {
			return nil, fmt.Errorf("%s:1: the column %q is not known; there are %s", name, column, strings.Join(transferColumns, ", "))
		}
	}
	if !slices.Contains(head, "name") {
		return nil, fmt.Errorf("%s:1: the column name is missing", name)
	}
	var all []client.ImportPerson
	for {
		record, err := table.Read()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		line, _ := table.FieldPos(0)
		p := client.ImportPerson{Line: line}
		for i, value := range record {
			value = strings.TrimSpace(value)
			var err error
			switch head[i] {
			case "name":
				p.Name = value
			case "email":
				p.Email = value
			case "notes":
				p.Notes = strings.TrimPrefix(value, "'")
			case "hash":
				p.Hash = value
			case "roles":
				p.Roles, err = readRoles(value)
			case "disabled":
				if value != "" {
					disabled := false
					if disabled, err = strconv.ParseBool(value); err != nil {
						err = fmt.Errorf("disabled is true or false, not %q", value)
					}
					p.Disabled = &disabled
				}
			}
			if err != nil {
				return nil, fmt.Errorf("%s:%d: %w", name, line, err)
			}
		}
		all = append(all, p)
	}
}

// readRoles reads roles as they stand in CSV: keeper;trustee@2027-03-31.
func readRoles(text string) ([]client.ImportGrant, error) {
	var roles []client.ImportGrant
	for _, one := range strings.FieldsFunc(text, func(r rune) bool { return r == ';' }) {
		role, end, hasEnd := strings.Cut(strings.TrimSpace(one), "@")
		g := client.ImportGrant{Role: role}
		if hasEnd {
			until, err := parseTime(end)
			if err != nil {
				return nil, err
			}
			g.Until = &until
		}
		roles = append(roles, g)
	}
	return roles, nil
}

func readPeopleJSON(name string, text []byte) ([]client.ImportPerson, error) {
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	var all []client.ImportPerson
	if err := decoder.Decode(&all); err != nil {
		return nil, fmt.Errorf("%s is not the JSON that export writes: %w", name, err)
	}
	for i := range all {
		if all[i].Line == 0 {
			all[i].Line = i + 1
		}
	}
	return all, nil
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
		all, err := allPeople(c.Context(), service(), client.PeopleQuery{})
		if err != nil {
			return err
		}
		if format == "json" {
			shown := []client.ImportPerson{}
			for _, p := range all {
				one := client.ImportPerson{Name: p.Name, Email: p.Email, Notes: p.Notes, Disabled: &p.Disabled}
				for _, g := range p.Grants {
					one.Roles = append(one.Roles, client.ImportGrant{Role: g.Role, From: &g.From, Until: g.Until})
				}
				shown = append(shown, one)
			}
			return writeJSON(c.OutOrStdout(), shown)
		}
		table := csv.NewWriter(c.OutOrStdout())
		table.Write([]string{"name", "email", "roles", "disabled", "notes"})
		for _, p := range all {
			var roles []string
			for _, g := range p.Grants {
				role := g.Role
				if g.Until != nil {
					role += "@" + g.Until.UTC().Format(time.RFC3339)
				}
				roles = append(roles, role)
			}
			notes := p.Notes
			if notes != "" && strings.ContainsRune("=+-@", rune(notes[0])) {
				notes = "'" + notes // else a spreadsheet takes it for a formula
			}
			table.Write([]string{p.Name, p.Email, strings.Join(roles, ";"), strconv.FormatBool(p.Disabled), notes})
		}
		table.Flush()
		return table.Error()
	}
	return c
}
