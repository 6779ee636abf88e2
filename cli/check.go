package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/service/rule/inspect"
)

func newCheck() *cobra.Command {
	c := &cobra.Command{
		Use:   "check [FILE]",
		Short: "Check a policy file and report all errors at once",
		Long: `Reads a policy file and reports all errors, each with its line, an excerpt and what was expected.
It also proves the guarantees, and warns of likely mistakes, such as doors that never decide or
pages that are open in another spelling. docs/findings.md explains all rules. Without a file, it
reports what the running service found in its own policy file, and whether that file is active.

Exit code 0: no errors; 1: errors; 2: wrong usage.`,
		Example: `  ostiarius check doors.yaml
  ostiarius check doors.yaml --strict --allow doors-cross -o sarif > findings.sarif
  ostiarius check --data ./data`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return takes("FILE")(c, args)
			}
			return nil
		},
	}
	service := dataFlag(c)
	strict := c.Flags().Bool("strict", false, "treat warnings as errors")
	allow := c.Flags().StringSlice("allow", nil, "rules whose warnings --strict ignores")
	output := outputFlag(c, "text", "json", "sarif")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		var text []byte
		var findings []document.Finding
		file := ""
		var pending *client.Pending
		if len(args) == 1 {
			file = args[0]
			_, text, findings, err = readPolicy(file, c)
		} else {
			var status client.Status
			if status, err = client.ShowStatus.Ask(c.Context(), service(), client.None{}); err != nil {
				return fmt.Errorf("%w; or name a file", err)
			}
			file, findings = status.Policy, status.Findings
			if pending = status.Pending; pending != nil {
				say(c.ErrOrStderr(), "the policy file %s is newer than the active policy, since %s: %s\n", file, when(&pending.Since, ""), pending.Why)
			}
			if len(findings) > 0 {
				text, _ = readFile(file) // for the excerpts; that it cannot be read may be what was found
			}
		}
		if err != nil {
			return err
		}
		ok := !document.HasErrors(findings) && (pending == nil || !pending.Stuck) &&
			!(*strict && slices.ContainsFunc(findings, func(f document.Finding) bool { return !slices.Contains(*allow, f.Rule) }))
		switch format {
		case "json":
			if findings == nil {
				findings = []document.Finding{}
			}
			err = writeJSON(c.OutOrStdout(), map[string]any{"ok": ok, "findings": findings, "pending": pending})
		case "sarif":
			err = writeSARIF(c.OutOrStdout(), findings)
		default:
			writeFindings(c.OutOrStdout(), file, text, findings)
		}
		if err != nil {
			return err
		}
		if !ok {
			return errSilent
		}
		return nil
	}
	return c
}

// readPolicy reads a policy file and finds what is wrong with it, also with what it names
// on this machine. There is no Book if there are errors.
func readPolicy(file string, c *cobra.Command) (*policy.Book, []byte, []document.Finding, error) {
	text, err := readFile(file)
	if err != nil {
		return nil, nil, nil, err
	}
	book, findings := read.Parse(file, text)
	if book != nil {
		findings = append(findings, inspect.Check(book, file, ownOf(c))...)
	}
	return book, text, findings, nil
}

// ownOf returns what of a service that has the data directory of the command no source may give
// away.
func ownOf(c *cobra.Command) inspect.Own {
	data := defaultData
	if f := c.Flag("data"); f != nil {
		data = f.Value.String()
	}
	own := inspect.Own{Socket: filepath.Join(data, client.SocketName)}
	if _, err := os.Stat(filepath.Join(data, "ostiarius.db")); err == nil {
		own.Paths = []string{data}
	}
	return own
}

func readFile(file string) ([]byte, error) {
	text, err := inspect.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the policy can't be read: %w", err)
	}
	return text, nil
}

// writeFindings writes findings for people: position, message, rule and the excerpt.
func writeFindings(w io.Writer, file string, text []byte, findings []document.Finding) {
	errors, warnings := 0, 0
	for _, f := range findings {
		if f.Severity == document.SeverityError {
			errors++
		} else {
			warnings++
		}
		say(w, "%s:%d:%d: %s: %s [%s]\n%s", f.File, f.Line, f.Column, f.Severity, f.Message, f.Rule, ready(safe(f.Excerpt(text), true)))
		if f.Witness != nil {
			say(w, "      = %s\n", f.Witness)
		}
	}
	switch {
	case errors+warnings == 0:
		say(w, "%s: no errors\n", file)
	default:
		say(w, "%s: %s, %s\n", file, amount(errors, "error"), amount(warnings, "warning"))
	}
}

func amount(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func writeJSON(w io.Writer, value any) error {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(value)
}
