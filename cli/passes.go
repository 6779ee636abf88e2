package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/document"
)

func newPasses() *cobra.Command {
	c := &cobra.Command{
		Use:   "passes",
		Short: "Issue passes: access for one recipient that ends by itself",
		Long: `Issues passes and takes them back. Kinds of pass are declared in the policy, under passes. A pass has
two forms that open the same doors: a link for browsers, and a name with a password for programs that
download. Both are shown once, and mailed to the recipient.`,
		Example: `  ostiarius passes issue recordings --to ada@carrow.example --name "Ada Carrow" --data ./data
  ostiarius passes import recordings buyers.csv --dry-run
  ostiarius passes show k7qx3mpa2d`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	c.AddCommand(passesKinds(service), passesList(service), passesShow(service), passesIssue(service), passesImport(service),
		passesDo(service, client.RevokePass, "revoke", "Take a pass back for good", "is revoked: it opens nothing any more"),
		passesDo(service, client.PausePass, "pause", "Close a pass until it is resumed", "is paused"),
		passesDo(service, client.ResumePass, "resume", "Open a paused pass again", "is open again"),
		passesRenew(service), passesResend(service), passesRotate(service))
	return c
}

func passesKinds(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "kinds",
		Short:   "List the kinds of pass, and how many there are of each",
		Example: "  ostiarius passes kinds",
		Args:    noArgs,
	}
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		all, err := client.ListPassKinds.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		return writeList(c, format, all, "the policy has no kinds of pass; they are declared under passes",
			"KIND\tTITLE\tLASTS\tDOWNLOADS\tNETWORKS\tWAITING\tOPEN\tUSED UP\tENDED\tPAUSED\tREVOKED", func(t io.Writer, k client.PassKind) {
				lasts := k.Lasts
				if k.CountsFrom == "first-use" {
					lasts += " from the first use"
				}
				if k.Gone {
					lasts = "not in the policy"
				}
				say(t, "%s\t%s\t%s\t%s\t%s\t%d\t%d\t%d\t%d\t%d\t%d\n", k.Name, k.Title, lasts, anyNumber(k.Downloads),
					anyNumber(k.Networks)+", "+k.Spread,
					k.Counts["waiting"], k.Counts["open"], k.Counts["used-up"], k.Counts["ended"], k.Counts["paused"], k.Counts["revoked"])
			})
	}
	return c
}

func anyNumber(n int) string {
	if n == 0 {
		return "any"
	}
	return fmt.Sprint(n)
}

func passesList(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "list [KIND]",
		Short:   "List passes, the newest first",
		Example: "  ostiarius passes list recordings --state open\n  ostiarius passes list --search carrow",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return takes("KIND")(c, args)
			}
			return nil
		},
	}
	state := c.Flags().String("state", "", "only those that are waiting, open, used-up, ended, paused or revoked")
	search := c.Flags().String("search", "", "only those whose ID, name, address or reference begins so")
	limit := c.Flags().Int("limit", 1000, "how many at most")
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if *limit < 1 {
			return errUsage{errors.New("--limit is at least 1")}
		}
		q := client.PassQuery{State: *state, Search: *search}
		if len(args) == 1 {
			q.Kind = args[0]
		}
		all := []client.Pass{}
		for more := true; more && len(all) < *limit; {
			q.Limit = min(1000, *limit-len(all))
			part, err := client.ListPasses.Ask(c.Context(), service(), q)
			if err != nil {
				return err
			}
			all = append(all, part.Passes...)
			if more = part.More; more {
				q.After = all[len(all)-1].ID
			}
		}
		return writeList(c, format, all, "there is no such pass", "PASS\tKIND\tREFERENCE\tRECIPIENT\tNAME\tSTATE\tUNTIL\tDOWNLOADS",
			func(t io.Writer, p client.Pass) {
				say(t, "%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", p.ID, p.Kind, shorten(p.Reference, 24), shorten(p.Recipient, 40),
					dash(shorten(p.Name, 30)), p.State, passEnd(p), downloads(p.Downloads))
			})
	}
	return c
}

func passEnd(p client.Pass) string {
	if p.Lasts != "" {
		return p.Lasts + " from the first use"
	}
	return ends(p.Until, "no end")
}

func downloads(d client.PassDownloads) string {
	if d.Allowed == 0 {
		return fmt.Sprint(d.Used)
	}
	return fmt.Sprintf("%d of %d", d.Used, d.Allowed)
}

func passesShow(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "show PASS",
		Short:   "Show one pass with its story",
		Example: "  ostiarius passes show k7qx3mpa2d",
		Args:    takes("PASS"),
	}
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		p, err := client.ShowPass.Ask(c.Context(), service(), client.ByID{ID: args[0]})
		if err != nil {
			return err
		}
		out := c.OutOrStdout()
		if format == "json" {
			return writeJSON(out, p)
		}
		state := p.State
		if p.Why == "spread" {
			state += ": it was used from too many networks"
		}
		say(out, "pass       %s (%s)\nreference  %s\nrecipient  %s", p.ID, p.Kind, p.Reference, p.Recipient)
		if p.Name != "" {
			say(out, " (%s)", p.Name)
		}
		say(out, "\nstate      %s\nuntil      %s\ndownloads  %s\nnetworks   %d within a day\n", state, passEnd(p), downloads(p.Downloads),
			*p.Networks)
		if len(p.Paths) > 0 {
			say(out, "only       %s\n", strings.Join(p.Paths, " "))
		}
		if p.OldUntil != nil {
			say(out, "before     the link and password before count until %s\n", when(p.OldUntil, ""))
		}
		if p.Note != "" {
			say(out, "note       %s\n", p.Note)
		}
		say(out, "\n")
		for _, e := range p.Story {
			by := ""
			if e.Actor != "" {
				by = " by " + e.Actor
			}
			say(out, "%s  %s%s", when(&e.At, ""), e.What, by)
			if e.Detail != "" {
				say(out, ": %s", e.Detail)
			}
			say(out, "\n")
		}
		return nil
	}
	return c
}

// showIssued writes the credentials of a pass, which are shown this once.
func showIssued(c *cobra.Command, format, what string, p client.IssuedPass) error {
	if format == "json" {
		return writeJSON(c.OutOrStdout(), p)
	}
	say(c.OutOrStdout(), "%s\nreference  %s\nuntil      %s\nlink       %s\nuser       %s\npassword   %s\n           (shown this "+
		"once)\n", what, p.Reference, ends(p.Until, "no end, or from the first use"), p.Link, p.User, p.Password)
	if p.Letter != nil {
		say(c.OutOrStdout(), "\nText to send\n\n%s\n\n%s\n", safe(p.Letter.Subject, false), ready(safe(strings.TrimSpace(p.Letter.Text), true)))
	}
	return nil
}

// notMailed says why nobody was mailed.
func notMailed(meant bool) string {
	if meant {
		return "nobody was mailed"
	}
	return "nobody was mailed, because there is no mail server (--mail)"
}

func passesIssue(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "issue KIND",
		Short: "Issue a pass and mail it to its recipient",
		Long: `Issues a pass of a kind that the policy declares. Its end and the number of downloads are those of the
kind, unless they are given here. With --path it opens only these places and what is below them. Its
link, and its name and password, are mailed to the recipient and shown here, this once.`,
		Example: `  ostiarius passes issue recordings --to ada@carrow.example --name "Ada Carrow" --reference 2026-118
  ostiarius passes issue recordings --to press@gazette.example --until 3d --downloads 2 --path /recordings/fog-bell.wav --no-mail -o json`,
		Args: takes("KIND"),
	}
	n := client.NewPass{}
	c.Flags().StringVar(&n.To, "to", "", "the address of the recipient")
	c.Flags().StringVar(&n.Name, "name", "", "the name of the recipient")
	c.Flags().StringVar(&n.Reference, "reference", "", "your own reference, such as the number of an order")
	c.Flags().StringVar(&n.Note, "note", "", "for whom or what it is")
	until := c.Flags().String("until", "", "end: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, or 3d from now on")
	c.Flags().IntVar(&n.Downloads, "downloads", 0, "how many files may be downloaded")
	c.Flags().StringArrayVar(&n.Paths, "path", nil, "only this place and what is below it; can be given several times")
	c.Flags().StringVar(&n.Language, "language", "", "language in which the recipient is written to: en or de")
	c.Flags().BoolVar(&n.NoMail, "no-mail", false, "do not mail it; you pass on what is shown")
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if n.To == "" {
			return errUsage{errors.New("--to ADDRESS is missing: a pass has a recipient")}
		}
		if c.Flags().Changed("downloads") && n.Downloads < 1 {
			return errUsage{errors.New("--downloads is at least 1")}
		}
		if n.Until, err = end("until", *until); err != nil {
			return err
		}
		n.Kind = args[0]
		p, err := client.IssuePass.Ask(c.Context(), service(), n)
		if err != nil {
			return err
		}
		how := "it is on its way there"
		if !p.Mailed {
			how = notMailed(n.NoMail)
		}
		return showIssued(c, format, fmt.Sprintf("issued %s to %s; %s", p.ID, safe(p.Recipient, false), how), p)
	}
	return c
}

// importedAtOnce is how many lines of a list are sent at a time.
const importedAtOnce = 500

func passesImport(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "import KIND FILE",
		Short: "Issue the passes of a list",
		Long: `Issues a pass for each line of a file in CSV whose head line names its columns: address, and perhaps
name, reference, note, until, downloads, paths. Lines that cannot be taken are told, each with the
reason; the others are issued and mailed. Who has an open pass of the kind already, or one with the same
reference, gets no other: so a list that was cut short can be brought in once more. - is standard input.
With --no-mail each part is shown before the next one is issued. If the command is killed, import the file
again: it names the passes that were issued already, and "ostiarius passes resend ID --no-mail" gives
one of them another password. Exit code 1 if a line was refused.`,
		Example: "  ostiarius passes import recordings buyers.csv --dry-run\n  ostiarius passes import recordings buyers.csv --no-mail -o " +
			"json > passes.json",
		Args: takes("KIND", "FILE"),
	}
	until := c.Flags().String("until", "", "end, where the file says none: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, or 3d "+
		"from now on")
	number := c.Flags().Int("downloads", 0, "how many files may be downloaded, where the file does not say")
	language := c.Flags().String("language", "", "language in which the recipients are written to: en or de")
	noMail := c.Flags().Bool("no-mail", false, "do not mail them; with -o json they are shown, this once")
	bringIn := importFlags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		ends, err := end("until", *until)
		if err != nil {
			return err
		}
		dry, _ := c.Flags().GetBool("dry-run")
		if format, _ := c.Flags().GetString("output"); *noMail && !dry && format != "json" {
			return errUsage{errors.New("--no-mail goes with -o json: what nobody is mailed is shown this once, and lost otherwise")}
		}
		issued := 0
		return bringIn(c, args[1], func(text string, dry bool) (any, []client.ImportedLine, error) {
			parts, err := partsOf(text)
			if err != nil {
				return nil, nil, err
			}
			all := client.ImportedPasses{Lines: []client.ImportedLine{}, Issued: []client.IssuedPass{}}
			onTheWay := *noMail && !dry // what is shown this once, is shown before more is issued
			if onTheWay {
				say(c.OutOrStdout(), "{\n  \"issued\": [")
				defer func() {
					lines, _ := json.MarshalIndent(all.Lines, "  ", "  ")
					say(c.OutOrStdout(), "\n  ],\n  \"lines\": %s\n}\n", lines)
				}()
			}
			shown := progressOn(c, "issued")
			defer shown.done()
			for _, part := range parts {
				done, err := client.ImportPasses.Ask(c.Context(), service(),
					client.PassesImport{Kind: args[0], File: part.text, Dry: dry, Until: ends, Downloads: *number, Language: *language, NoMail: *noMail})
				if err != nil {
					if issued > 0 {
						err = fmt.Errorf("%w (%d were issued before; bring the file in once more to go on)", err, issued)
					}
					return nil, nil, err
				}
				for _, l := range done.Lines {
					if l.Line > 1 {
						l.Line = part.lines[min(l.Line-2, len(part.lines)-1)]
					}
					if l.Action == "add" && !dry {
						issued++
					}
					all.Lines = append(all.Lines, l)
				}
				if onTheWay {
					if err := writeIssued(c.OutOrStdout(), done.Issued, len(all.Issued) == 0); err != nil {
						return nil, nil, fmt.Errorf("what was issued could not be shown, and nothing more is issued: %w", err)
					}
				}
				all.Issued = append(all.Issued, done.Issued...)
				shown.at(len(all.Lines), parts[len(parts)-1].until)
			}
			if onTheWay {
				return nil, all.Lines, nil
			}
			return all, all.Lines, nil
		}, func(dry bool) string {
			if dry {
				return "nothing was changed: this was a dry run"
			}
			return fmt.Sprintf("%d issued", issued)
		})
	}
	return c
}

// writeIssued writes passes as entries of a JSON list, of which some were written before unless they are the first.
func writeIssued(w io.Writer, issued []client.IssuedPass, first bool) error {
	var text bytes.Buffer
	for i, one := range issued {
		entry, err := json.MarshalIndent(one, "    ", "  ")
		if err != nil {
			return err
		}
		if i > 0 || !first {
			text.WriteByte(',')
		}
		text.WriteString("\n    ")
		text.Write(entry)
	}
	_, err := w.Write(text.Bytes())
	return err
}

// A part is some lines of a list, with its head line.
type part struct {
	text  string
	lines []int // in which each of them stood
	until int   // how many lines there are up to here
}

// partsOf divides a list, so that it can be told how far it is. What cannot be read stands in a part of its own, as it
// is, so that the service says what is wrong with it.
func partsOf(text string) ([]part, error) {
	text = strings.TrimPrefix(text, "\ufeff")
	head, _, _ := strings.Cut(text, "\n")
	table := csv.NewReader(strings.NewReader(text))
	table.FieldsPerRecord, table.ReuseRecord = -1, true
	if strings.Count(head, ";") > strings.Count(head, ",") {
		table.Comma = ';'
	}
	names, err := table.Read()
	if err != nil {
		return []part{{text: text, lines: []int{1}}}, nil
	}
	names = append([]string(nil), names...)
	var parts []part
	var now bytes.Buffer
	var lines []int
	out := csv.NewWriter(&now)
	begin := func() { now.Reset(); lines = nil; out.Write(names) }
	end := func() {
		out.Flush()
		until := len(lines)
		if len(parts) > 0 {
			until += parts[len(parts)-1].until
		}
		parts = append(parts, part{now.String(), lines, until})
	}
	begin()
	for {
		record, err := table.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("it cannot be read as CSV: %w", err)
		}
		line, _ := table.FieldPos(0)
		for i, field := range record { // one record, one line
			record[i] = strings.NewReplacer("\r", " ", "\n", " ").Replace(field)
		}
		out.Write(record)
		if lines = append(lines, line); len(lines) == importedAtOnce {
			end()
			begin()
		}
	}
	if len(lines) > 0 || len(parts) == 0 {
		end()
	}
	return parts, nil
}

func passesDo(service func() *client.Client, act client.Call[client.ByID, client.None], verb, short, done string) *cobra.Command {
	return &cobra.Command{
		Use:     verb + " PASS",
		Short:   short,
		Example: "  ostiarius passes " + verb + " k7qx3mpa2d",
		Args:    takes("PASS"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := act.Do(c.Context(), service(), client.ByID{ID: args[0]}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "%s %s\n", args[0], done)
			return nil
		},
	}
}

func passesRenew(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "renew PASS",
		Short: "Give a pass another end, and more downloads",
		Long: `Gives a pass another end: the one that is given, or as long as its kind lasts from now on. With
--downloads it has so many more; one that is used up has as many more as its kind has. Its link and
password stay as they are.`,
		Example: "  ostiarius passes renew k7qx3mpa2d\n  ostiarius passes renew k7qx3mpa2d --until 2027-03-31 --downloads 5",
		Args:    takes("PASS"),
	}
	until := c.Flags().String("until", "", "end: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, or 3d from now on")
	more := c.Flags().Int("downloads", 0, "how many more files may be downloaded")
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		ends, err := end("until", *until)
		if err != nil {
			return err
		}
		p, err := client.RenewPass.Ask(c.Context(), service(), client.PassRenewal{ID: args[0], Until: ends, Downloads: *more})
		if err != nil {
			return err
		}
		if format == "json" {
			return writeJSON(c.OutOrStdout(), p)
		}
		say(c.OutOrStdout(), "%s is %s; until %s; downloads %s\n", p.ID, p.State, passEnd(p), downloads(p.Downloads))
		return nil
	}
	return c
}

func passesResend(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "resend PASS",
		Short: "Give a pass another link and password, and mail them",
		Long: `Mails a pass to its recipient again. Of its link and password only hashes are kept, so it gets others;
those before count no longer, or for as long as --grace says.`,
		Example: "  ostiarius passes resend k7qx3mpa2d --grace 24h",
		Args:    takes("PASS"),
	}
	grace := c.Flags().String("grace", "0s", "how long those before count too, such as 24h or 7d")
	noMail := c.Flags().Bool("no-mail", false, "do not mail them; you pass on what is shown")
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		both, err := document.ParseDuration(*grace)
		if err != nil {
			return errUsage{fmt.Errorf("--grace %s is no duration; write one like 24h", *grace)}
		}
		p, err := client.ResendPass.Ask(c.Context(), service(),
			client.PassResending{ID: args[0], Grace: int64(both / time.Second), NoMail: *noMail})
		if err != nil {
			return err
		}
		how := "they are on their way to " + safe(p.Recipient, false)
		if !p.Mailed {
			how = notMailed(*noMail)
		}
		return showIssued(c, format, fmt.Sprintf("%s has another link and password; %s", p.ID, how), p)
	}
	return c
}

func passesRotate(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "rotate KIND",
		Short: "Give all passes of a kind another link and password, and mail them",
		Long: `Gives all passes of a kind that have not ended another link and password, and mails them to their
recipients. Those before count no longer, or for as long as --grace says.`,
		Example: "  ostiarius passes rotate recordings --grace 3d",
		Args:    takes("KIND"),
	}
	grace := c.Flags().String("grace", "0s", "how long those before count too, such as 24h or 7d")
	c.RunE = func(c *cobra.Command, args []string) error {
		both, err := document.ParseDuration(*grace)
		if err != nil {
			return errUsage{fmt.Errorf("--grace %s is no duration; write one like 24h", *grace)}
		}
		all, began := 0, time.Now()
		shown := progressOn(c, "rotated")
		for {
			done, err := client.RotatePasses.Ask(c.Context(), service(),
				client.PassRotation{Kind: args[0], Grace: int64(both / time.Second), Before: began})
			if err != nil {
				shown.done()
				return fmt.Errorf("%w (%d have others; begin once more to go on)", err, all)
			}
			if done.Rotated == 0 {
				break
			}
			all += done.Rotated
			shown.at(all, 0)
		}
		shown.done()
		say(c.OutOrStdout(), "%d passes have another link and password\n", all)
		return nil
	}
	return c
}
