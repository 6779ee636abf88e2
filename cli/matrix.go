package cli

import (
	_ "embed"
	"encoding/csv"
	"errors"
	"fmt"
	"html/template"
	"io"
	"math"
	"strings"
	"text/tabwriter"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/prove"
	"ostiarius/core/table"
	"ostiarius/service/rule/inspect"
)

// The most files that a matrix shows.
const maxFiles = 100_000

func newMatrix() *cobra.Command {
	c := &cobra.Command{
		Use:   "matrix",
		Short: "Show who gets what, for all places and every kind of visitor",
		Long: `Shows what each kind of visitor gets at each place: not signed in, signed in, each role, and
visitors added with --as. The rows are the doors and the regions between them, which together
are all places of the site. With --files, the rows are the files that the policy's sources serve;
with --addresses, the addresses of a list or a sitemap.xml.

With --policy it reads a file; without, it asks the running service.

In the table, a letter stands for each outcome: A admit, C challenge, R refuse, H hide,
X reject.`,
		Example: `  ostiarius matrix --policy doors.yaml
  ostiarius matrix --policy doors.yaml --files --as role:trustee,proof-age:20m
  ostiarius matrix --policy doors.yaml --addresses sitemap.xml -o csv
  ostiarius matrix --policy doors.yaml -o html > matrix.html`,
		Args: noArgs,
	}
	file := c.Flags().String("policy", "", "policy file; without it the running service is asked")
	files := c.Flags().Bool("files", false, "one row for each file of the sources")
	list := c.Flags().String("addresses", "", "one row for each address in this file, a list or a sitemap; - is standard input")
	more := c.Flags().StringArray("as", nil, "add a visitor; repeatable")
	service := dataFlag(c)
	output := outputFlag(c, "table", "csv", "json", "html")
	c.MarkFlagFilename("policy", "yaml", "yml")
	c.MarkFlagFilename("addresses", "txt", "xml")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if *files && *list != "" {
			return errUsage{errors.New("--files and --addresses can't be used together: both choose the rows")}
		}
		for _, who := range *more {
			if _, err := policy.ParseVisitor(who); err != nil {
				return errUsage{err}
			}
		}
		var requests []policy.Request
		if *list != "" {
			if requests, err = readAddresses(*list, c.InOrStdin()); err != nil {
				return err
			}
		}
		var shown client.Matrix
		if *file == "" {
			asked := client.MatrixQuery{Files: *files, As: *more}
			for _, r := range requests {
				asked.Addresses = append(asked.Addresses, client.Address(r))
			}
			if shown, err = client.ShowMatrix.Ask(c.Context(), service(), asked); err != nil {
				return orFile(err)
			}
		} else {
			book, err := bookIn(c, *file)
			if err != nil {
				return err
			}
			visitors := prove.Kinds(book)
			for _, who := range *more {
				v, _ := policy.ParseVisitor(who)
				visitors = append(visitors, v)
			}
			shown.Site = book.Site
			switch {
			case *list != "":
				shown.Matrix = prove.At(book, requests, visitors)
			case *files:
				places, more := inspect.Addresses(book, *file, maxFiles)
				for _, p := range places {
					requests = append(requests, policy.RequestFor(p))
				}
				shown.Matrix, shown.More = prove.At(book, requests, visitors), more
			default:
				ground, err := prove.Survey(book)
				if err != nil {
					return err
				}
				shown.Matrix = ground.Regions(visitors)
			}
		}
		if shown.More {
			say(c.ErrOrStderr(), "ostiarius: note: there are more files; the first %d are shown\n", len(shown.Rows))
		}
		switch format {
		case "json":
			return writeJSON(c.OutOrStdout(), shown)
		case "csv":
			return writeMatrixCSV(c.OutOrStdout(), shown.Matrix)
		case "html":
			return writeMatrixPage(c.OutOrStdout(), shown)
		}
		return writeMatrix(c.OutOrStdout(), shown.Matrix)
	}
	return c
}

// letter stands for an outcome in the table.
func letter(o policy.Outcome) string {
	switch o {
	case policy.Admit:
		return "A"
	case policy.Challenge:
		return "C"
	case policy.Refuse:
		return "R"
	case policy.Hide:
		return "H"
	}
	return "X"
}

// writeMatrix writes a table with a column for each visitor, numbered if their names would
// make it wider than the terminal.
func writeMatrix(w io.Writer, m prove.Matrix) error {
	heads, width := m.Visitors, 0
	for _, row := range m.Rows {
		width = max(width, utf8.RuneCountInString(place(row)))
	}
	for _, v := range m.Visitors {
		width += len(v) + 2
	}
	if width > widthOf(w) {
		heads = nil
		for i, v := range m.Visitors {
			heads = append(heads, fmt.Sprint(i+1))
			say(w, "%2d  %s\n", i+1, v)
		}
		fmt.Fprintln(w)
	}
	table := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	say(table, "place\t%s\n", ready(strings.Join(heads, "\t")))
	problems := false
	for _, row := range m.Rows {
		say(table, "%s", place(row))
		for _, cell := range row.Cells {
			say(table, "\t%s", letter(cell.Outcome))
		}
		fmt.Fprintln(table)
		problems = problems || row.Problem != ""
	}
	if err := table.Flush(); err != nil {
		return err
	}
	if problems {
		fmt.Fprintln(w)
		for _, row := range m.Rows {
			if row.Problem != "" {
				say(w, "%s is rejected: %s\n", row.Label, row.Problem)
			}
		}
	}
	_, err := say(w, "\nA admit  C challenge  R refuse  H hide  X reject; %s\n", amount(len(m.Rows), "place"))
	return err
}

// widthOf returns how many columns a terminal has; what is no terminal has no end.
func widthOf(w io.Writer) int {
	if t, ok := w.(*terminal); ok {
		if width, _, err := term.GetSize(int(t.file.Fd())); err == nil {
			return width
		}
	}
	return math.MaxInt
}

// isTerminal reports whether somebody looks at what is written.
func isTerminal(w io.Writer) bool {
	_, ok := w.(*terminal)
	return ok
}

// place names what a row is about: a region in the policy's words, an address with its
// method if that is not GET.
func place(row prove.Row) string {
	if row.Kind == "address" && row.Method != "GET" {
		return row.Method + " " + row.Label
	}
	return row.Label
}

// lines returns where the doors of a row stand in the policy, separated by spaces.
func lines(row prove.Row) string {
	var all []string
	for _, d := range row.Doors {
		if d.Line > 0 {
			all = append(all, fmt.Sprint(d.Line))
		}
	}
	return strings.Join(all, " ")
}

// writeMatrixCSV writes the matrix as RFC 4180 has it, a row for each place. A cell that a
// spreadsheet would take for a formula begins with an apostrophe.
func writeMatrixCSV(w io.Writer, m prove.Matrix) error {
	list := csv.NewWriter(w)
	list.UseCRLF = true
	list.Write(append([]string{"place", "method", "host", "path", "lines"}, m.Visitors...))
	for _, row := range m.Rows {
		record := []string{row.Label, row.Method, row.Host, row.Path, lines(row)}
		for _, cell := range row.Cells {
			record = append(record, cell.Detail)
		}
		for i, text := range record {
			record[i] = table.Guard(text)
		}
		list.Write(record)
	}
	list.Flush()
	return list.Error()
}

//go:embed matrix.html
var matrixPage string

var matrixTemplate = template.Must(template.New("matrix").Funcs(template.FuncMap{
	"place":  place,
	"letter": letter,
	"lines": func(row prove.Row) string {
		if numbers := lines(row); numbers != "" {
			return "line " + strings.ReplaceAll(numbers, " ", ", ")
		}
		return ""
	},
}).Parse(matrixPage))

// writeMatrixPage writes one page of HTML that needs nothing else.
func writeMatrixPage(w io.Writer, m client.Matrix) error {
	return matrixTemplate.Execute(w, struct {
		client.Matrix
		Made string
	}{m, time.Now().Format("2 January 2006, 15:04")})
}
