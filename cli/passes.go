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
		Short: "Issue passes: access for one recipient that ends automatically",
		Long: `Issues and revokes passes. Kinds of pass are declared in the policy, under passes. A pass has two
forms that open the same doors: a link for browsers, and a name with a password for download programs.
Both are shown once and e-mailed to the recipient.`,
		Example: `  ostiarius passes issue recordings --to ada@carrow.example --name "Ada Carrow" --data ./data
  ostiarius passes import recordings buyers.csv --dry-run
  ostiarius passes show k7qx3mpa2d`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	c.AddCommand(passesKinds(service), passesList(service), passesShow(service), passesIssue(service), passesImport(service),
		passesDo(service, client.RevokePass, "revoke", "Revoke a pass for good", "is revoked and no longer works"),
		passesDo(service, client.PausePass, "pause", "Pause a pass until it is resumed", "is paused"),
		passesDo(service, client.ResumePass, "resume", "Resume a paused pass", "is resumed"),
		passesRenew(service), passesResend(service), passesRotate(service))
	return c
}

func passesKinds(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "kinds",
		Short:   "List the kinds of pass, with the number of each",
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
		return writeList(c, format, all, "the policy has no kinds of pass; declare them under passes",
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
		Short:   "List passes, newest first",
		Example: "  ostiarius passes list recordings --state open\n  ostiarius passes list --search carrow",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return takes("KIND")(c, args)
			}
			return nil
		},
	}
	state := c.Flags().String("state", "", "only with this state: waiting, open, used-up, ended, paused or revoked")
	search := c.Flags().String("search", "", "only where ID, name, address or reference starts with this")
	limit := c.Flags().Int("limit", 1000, "maximum number")
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
		return writeList(c, format, all, "no matching passes", "PASS\tKIND\tREFERENCE\tRECIPIENT\tNAME\tSTATE\tUNTIL\tDOWNLOADS",
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
		Short:   "Show one pass with its history",
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
			say(out, "before     the previous link and password work until %s\n", when(p.OldUntil, ""))
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
		return "no e-mail was sent"
	}
	return "no e-mail was sent, because there is no mail server (--mail)"
}

func passesIssue(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "issue KIND",
		Short: "Issue a pass and e-mail it to the recipient",
		Long: `Issues a pass of a kind that the policy declares. The end and the number of downloads come from the
kind, unless you set them here. With --path it opens only these places and everything below them. The
link, name and password are e-mailed to the recipient and shown here once.`,
		Example: `  ostiarius passes issue recordings --to ada@carrow.example --name "Ada Carrow" --reference 2026-118
  ostiarius passes issue recordings --to press@gazette.example --until 3d --downloads 2 --path /recordings/fog-bell.wav --no-mail -o json`,
		Args: takes("KIND"),
	}
	n := client.NewPass{}
	c.Flags().StringVar(&n.To, "to", "", "e-mail address of the recipient")
	c.Flags().StringVar(&n.Name, "name", "", "name of the recipient")
	c.Flags().StringVar(&n.Reference, "reference", "", "your reference, such as an order number")
	c.Flags().StringVar(&n.Note, "note", "", "note for stewards")
	until := c.Flags().String("until", "", "end: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, or 3d from now on")
	c.Flags().IntVar(&n.Downloads, "downloads", 0, "number of downloads")
	c.Flags().StringArrayVar(&n.Paths, "path", nil, "only this place and everything below it; repeatable")
	c.Flags().StringVar(&n.Language, "language", "", "language of the e-mail: en or de")
	c.Flags().BoolVar(&n.NoMail, "no-mail", false, "don't send an e-mail; you pass on what is shown")
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if n.To == "" {
			return errUsage{errors.New("--to ADDRESS is missing; a pass needs a recipient")}
		}
		if c.Flags().Changed("downloads") && n.Downloads < 1 {
			return errUsage{errors.New("--downloads must be at least 1")}
		}
		if n.Until, err = end("until", *until); err != nil {
			return err
		}
		n.Kind = args[0]
		p, err := client.IssuePass.Ask(c.Context(), service(), n)
		if err != nil {
			return err
		}
		how := "it was sent there"
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
		Short: "Issue passes from a list",
		Long: `Issues a pass for each row of a CSV file. The header row names the columns: address; optionally name,
reference, note, until, downloads, paths. Rows that can't be imported are reported with the reason; the
others are issued and e-mailed. Recipients who already have an open pass of the kind, or one with the same
reference, are skipped, so you can import a list again that was cut short. - is standard input.
With --no-mail each part is shown before the next one is issued. If the command is killed, import the file
again: it names the passes that were issued already, and "ostiarius passes resend ID --no-mail" gives
one of them a new password. Exit code 1 if a row was rejected.`,
		Example: "  ostiarius passes import recordings buyers.csv --dry-run\n  ostiarius passes import recordings buyers.csv --no-mail -o " +
			"json > passes.json",
		Args: takes("KIND", "FILE"),
	}
	until := c.Flags().String("until", "", "end, where the file has none: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, or 3d "+
		"from now on")
	number := c.Flags().Int("downloads", 0, "number of downloads, where the file doesn't say")
	language := c.Flags().String("language", "", "language of the e-mails: en or de")
	noMail := c.Flags().Bool("no-mail", false, "don't send e-mails; with -o json the passes are shown once")
	bringIn := importFlags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		ends, err := end("until", *until)
		if err != nil {
			return err
		}
		dry, _ := c.Flags().GetBool("dry-run")
		if format, _ := c.Flags().GetString("output"); *noMail && !dry && format != "json" {
			return errUsage{errors.New("--no-mail needs -o json, since the passes are shown only once")}
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
						err = fmt.Errorf("%w (%d were issued before; import the file again to continue)", err, issued)
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
						return nil, nil, fmt.Errorf("issued passes could not be shown, so no more are issued: %w", err)
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
			return nil, fmt.Errorf("this can't be read as CSV: %w", err)
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
		Short: "Extend a pass, with more downloads",
		Long: `Extends a pass: until the given end, or as long as its kind lasts, starting now. --downloads adds that many
downloads; a used-up pass gets as many as its kind has. The link and password stay the same.`,
		Example: "  ostiarius passes renew k7qx3mpa2d\n  ostiarius passes renew k7qx3mpa2d --until 2027-03-31 --downloads 5",
		Args:    takes("PASS"),
	}
	until := c.Flags().String("until", "", "end: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, or 3d from now on")
	more := c.Flags().Int("downloads", 0, "number of additional downloads")
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
		Short: "Give a pass a new link and password, and e-mail them",
		Long: `E-mails a pass to its recipient again. Only hashes of the link and password are stored, so it gets new ones.
The previous ones stop working, or work as long as --grace says.`,
		Example: "  ostiarius passes resend k7qx3mpa2d --grace 24h",
		Args:    takes("PASS"),
	}
	grace := c.Flags().String("grace", "0s", "how long the previous ones also work, such as 24h or 7d")
	noMail := c.Flags().Bool("no-mail", false, "don't send an e-mail; you pass on what is shown")
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		both, err := document.ParseDuration(*grace)
		if err != nil {
			return errUsage{fmt.Errorf("--grace %s is not a duration; use one like 24h", *grace)}
		}
		p, err := client.ResendPass.Ask(c.Context(), service(),
			client.PassResending{ID: args[0], Grace: int64(both / time.Second), NoMail: *noMail})
		if err != nil {
			return err
		}
		how := "they were sent to " + safe(p.Recipient, false)
		if !p.Mailed {
			how = notMailed(*noMail)
		}
		return showIssued(c, format, fmt.Sprintf("%s has a new link and password; %s", p.ID, how), p)
	}
	return c
}

func passesRotate(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "rotate KIND",
		Short: "Give all passes of a kind a new link and password, and e-mail them",
		Long: `Gives all valid passes of a kind a new link and password, and e-mails them to the recipients. The
previous ones stop working, or work as long as --grace says.`,
		Example: "  ostiarius passes rotate recordings --grace 3d",
		Args:    takes("KIND"),
	}
	grace := c.Flags().String("grace", "0s", "how long the previous ones also work, such as 24h or 7d")
	c.RunE = func(c *cobra.Command, args []string) error {
		both, err := document.ParseDuration(*grace)
		if err != nil {
			return errUsage{fmt.Errorf("--grace %s is not a duration; use one like 24h", *grace)}
		}
		all, began := 0, time.Now()
		shown := progressOn(c, "rotated")
		for {
			done, err := client.RotatePasses.Ask(c.Context(), service(),
				client.PassRotation{Kind: args[0], Grace: int64(both / time.Second), Before: began})
			if err != nil {
				shown.done()
				return fmt.Errorf("%w (%d were replaced; run the command again to continue)", err, all)
			}
			if done.Rotated == 0 {
				break
			}
			all += done.Rotated
			shown.at(all, 0)
		}
		shown.done()
		say(c.OutOrStdout(), "%d passes have a new link and password\n", all)
		return nil
	}
	return c
}
