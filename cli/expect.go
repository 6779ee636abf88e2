package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"ostiarius/core/document"
	"ostiarius/core/policy/read"
	"ostiarius/core/prove"
	"ostiarius/service/rule/inspect"
)

func newExpect() *cobra.Command {
	c := &cobra.Command{
		Use:   "expect TABLE",
		Short: "Test a policy against a table of expectations",
		Long: `Decides each line of a table and reports where the outcome is not the expected one. The table is a
YAML list. Each entry has as (one visitor or a list), path (one address or a list), method (default
GET) and outcome (admit, challenge, refuse, hide or reject). Each visitor should get the outcome at
each address.

Exit code 0: all as expected; 1: differences; 2: wrong usage.`,
		Example: `  ostiarius expect expectations.yaml --policy doors.yaml
  ostiarius expect expectations.yaml --policy doors.yaml -o json`,
		Args: takes("TABLE"),
	}
	file := c.Flags().String("policy", "", "policy file; without it the policy of the running service")
	service := dataFlag(c)
	output := outputFlag(c, "text", "json", "sarif")
	c.MarkFlagFilename("policy", "yaml", "yml")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		table, err := inspect.ReadFile(args[0])
		if err != nil {
			return fmt.Errorf("the table can't be read: %w", err)
		}
		expectations, findings := read.ParseExpectations(args[0], table)
		if len(findings) > 0 {
			writeFindings(c.ErrOrStderr(), args[0], table, findings)
			return errSilent
		}
		book, name, err := bookFor(c, service, *file)
		if err != nil {
			return err
		}
		answers := prove.Expect(book, expectations)
		missed := 0
		for _, a := range answers {
			if !a.OK {
				missed++
			}
		}
		switch format {
		case "json":
			err = writeJSON(c.OutOrStdout(), map[string]any{"ok": missed == 0, "expectations": answers})
		case "sarif":
			err = writeSARIF(c.OutOrStdout(), missedFindings(args[0], answers))
		default:
			err = writeAnswers(c.OutOrStdout(), args[0], name, answers, missed)
		}
		if err == nil && missed > 0 {
			return errSilent
		}
		return err
	}
	return c
}

// why says what stands behind an answer that was not expected.
func why(a prove.Answered) string {
	if a.Note != "" {
		return a.Note
	}
	return "by " + named(a.Doors)
}

func writeAnswers(w io.Writer, table, book string, answers []prove.Answered, missed int) error {
	for _, a := range answers {
		if a.OK {
			say(w, "%s:%d: ok: %s %s as %s: %s\n", table, a.Line, a.Method, a.Path, a.As, a.Outcome)
			continue
		}
		say(w, "%s:%d: NOT AS EXPECTED: %s %s as %s: %s, not %s; %s\n", table, a.Line, a.Method, a.Path, a.As, a.Outcome, a.Expects, why(a))
	}
	_, err := say(w, "%s, %d not as expected, held against %s\n", amount(len(answers), "expectation"), missed, book)
	return err
}

func missedFindings(table string, answers []prove.Answered) []document.Finding {
	var findings []document.Finding
	for _, a := range answers {
		if !a.OK {
			findings = append(findings,
				document.Finding{Severity: document.SeverityError, Rule: "expectation-missed", File: table, Line: a.Line, Column: 1,
					Message: fmt.Sprintf("%s %s as %s comes to %s, not to %s; %s", a.Method, a.Path, a.As, a.Outcome, a.Expects, why(a))})
		}
	}
	return findings
}
