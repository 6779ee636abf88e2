package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ostiarius/client"
	"ostiarius/core/account"
	"ostiarius/core/words"
)

func newPeople() *cobra.Command {
	c := &cobra.Command{
		Use:   "people",
		Short: "Manage the accounts of the running service",
		Example: `  ostiarius people add ines --role keeper --data ./data
  ostiarius people list --data ./data
  ostiarius people grant ines trustee --until 2027-03-31 --data ./data`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	c.AddCommand(
		peopleAdd(service), peopleList(service), peopleShow(service), peopleRemove(service),
		peopleInvite(service), peopleApprove(service), peopleDecline(service), peopleUninvite(service),
		peopleSetPassword(service), peopleResetFactors(service), peopleLink(service), peopleGrant(service), peopleRevoke(service),
		peopleMembers(service),
		peopleEdit(service), peopleEndSessions(service), peopleImport(service), peopleExport(service),
		peopleSwitch(service, "disable", "Disable an account and end its sessions", true),
		peopleSwitch(service, "enable", "Enable an account again", false),
	)
	return c
}

func peopleAdd(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Add an account",
		Long: `Adds an account. The command asks for the password on the terminal, reads it from standard input
with --password-stdin, or generates one and shows it once with --generate or --words. With --link it sets
no password and prints a link to set one, valid once and for three days.`,
		Example: `  ostiarius people add ines --role keeper --email ines@marram.example
  ostiarius people add ines --role keeper --link
  echo "$PASSWORD" | ostiarius people add ines --role keeper --role trustee --password-stdin`,
		Args: takes("NAME"),
	}
	roles := c.Flags().StringArray("role", nil, "role to grant; repeatable")
	email := c.Flags().String("email", "", "e-mail address, which also works for sign-in")
	until := c.Flags().String("until", "", "when the roles end: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, or 3d from now on")
	notes := c.Flags().String("notes", "", "notes for stewards")
	anyway := c.Flags().Bool("anyway", false, anywayHelp)
	link := c.Flags().Bool("link", false, "print a link to set a password instead of setting one")
	password := passwordFlag(c)
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		n := client.NewPerson{Name: args[0], Email: *email, Notes: *notes, Roles: *roles, Anyway: *anyway}
		if n.Until, err = end("until", *until); err != nil {
			return err
		}
		if n.Until != nil && len(n.Roles) == 0 {
			return errUsage{errors.New("--until needs --role")}
		}
		var shown string
		if !*link {
			if n.Password, shown, err = password(c); err != nil {
				return err
			}
		}
		p, err := client.AddPerson.Ask(c.Context(), service(), n)
		if err != nil {
			return err
		}
		if *link {
			if format == "text" {
				say(c.OutOrStdout(), "added %s%s\n", p.Name, withRoles(p.Roles))
			}
			return printLink(c, service(), p.Name, format)
		}
		return once(c, format, p.Name, n.Password, shown, fmt.Sprintf("added %s%s\n", p.Name, withRoles(p.Roles)))
	}
	return c
}

const anywayHelp = "use the name even if another account had it recently, or it looks like another one"

// once prints, as text or as JSON, what was done for a name, and the password if that is shown this once.
func once(c *cobra.Command, format, name, password, shown, text string) error {
	if format != "json" {
		say(c.OutOrStdout(), "%s%s", ready(text), ready(shown))
		return nil
	}
	answer := map[string]string{"name": name}
	if shown != "" {
		answer["password"] = password
	}
	return writeJSON(c.OutOrStdout(), answer)
}

// printLink makes a link to set a password and prints it.
func printLink(c *cobra.Command, service *client.Client, name, format string) error {
	l, err := client.LinkPerson.Ask(c.Context(), service, client.ByName{Name: name})
	if err != nil {
		return err
	}
	status, err := client.ShowStatus.Ask(c.Context(), service, client.None{})
	if err != nil {
		return err
	}
	if format == "json" {
		return writeJSON(c.OutOrStdout(), map[string]any{"name": name, "link": status.URL + l.Path, "until": l.Until})
	}
	say(c.OutOrStdout(), "%s%s\nGive this link only to %s. It sets the password once and is valid until %s.\n", status.URL, l.Path, name,
		when(&l.Until, ""))
	return nil
}

func peopleLink(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "link NAME",
		Short: "Create a link to set a password, once",
		Long: `Creates a link to set the password of an account, once. With --first, while there is no steward yet,
it creates a link to set up the first steward within an hour.`,
		Example: "  ostiarius people link ines\n  ostiarius people link ines --mail\n  ostiarius people link --first",
	}
	first := c.Flags().Bool("first", false, "a link for the first steward, while there is none")
	mailed := c.Flags().Bool("mail", false, "e-mail it to the account instead of printing it")
	output := outputFlag(c, "text", "json")
	c.Args = func(c *cobra.Command, args []string) error {
		if *first && *mailed {
			return errUsage{errors.New("--first and --mail can't be used together: there is nobody to send it to yet")}
		}
		if *first {
			return noArgs(c, args)
		}
		return takes("NAME")(c, args)
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if *mailed {
			err := client.MailLink.Do(c.Context(), service(), client.ByName{Name: args[0]})
			if err == nil {
				say(c.OutOrStdout(), "a link is being sent to %s; `ostiarius messages list` shows its delivery\n", args[0])
			}
			return err
		}
		if !*first {
			return printLink(c, service(), args[0], format)
		}
		l, err := client.FirstLink.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		status, err := client.ShowStatus.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		if format == "json" {
			return writeJSON(c.OutOrStdout(), map[string]any{"link": cmp.Or(status.Console, status.URL) + l.Path, "until": l.Until})
		}
		say(c.OutOrStdout(), "%s", ready(firstLink(&status, l)))
		return nil
	}
	return c
}

// firstLink tells of a link for the first steward, which leads to where the console is.
func firstLink(at *client.Status, l client.Link) string {
	return fmt.Sprintf("%s%s\nThis link creates the first steward account. It works once and is valid until %s.\n",
		cmp.Or(at.Console, at.URL), l.Path, when(&l.Until, ""))
}

func peopleEdit(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "edit NAME",
		Short:   "Change the name, e-mail address or notes of an account",
		Example: "  ostiarius people edit ines --email ines@marram.example --notes \"keeps the east lamp\"",
		Args:    takes("NAME"),
	}
	name := c.Flags().String("name", "", "new username")
	email := c.Flags().String("email", "", "new e-mail address; empty for none")
	notes := c.Flags().String("notes", "", "new notes; empty for none")
	anyway := c.Flags().Bool("anyway", false, anywayHelp)
	c.RunE = func(c *cobra.Command, args []string) error {
		var to client.PersonEdit
		for flag, field := range map[string]**string{"name": &to.Name, "email": &to.Email, "notes": &to.Notes} {
			if c.Flags().Changed(flag) {
				*field = map[string]*string{"name": name, "email": email, "notes": notes}[flag]
			}
		}
		if to == (client.PersonEdit{}) {
			return errUsage{errors.New("say what to change: --name, --email or --notes")}
		}
		to.Account, to.Anyway = args[0], *anyway
		p, err := client.EditPerson.Ask(c.Context(), service(), to)
		if err != nil {
			return err
		}
		say(c.OutOrStdout(), "changed %s\n", p.Name)
		return nil
	}
	return c
}

func peopleEndSessions(service func() *client.Client) *cobra.Command {
	return &cobra.Command{
		Use:     "end-sessions NAME",
		Short:   "Sign an account out everywhere",
		Example: "  ostiarius people end-sessions ines",
		Args:    takes("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			done, err := client.EndSessionsOf.Ask(c.Context(), service(), client.ByName{Name: args[0]})
			if err != nil {
				return err
			}
			say(c.OutOrStdout(), "ended %s of %s\n", amount(int(done.Ended), "session"), args[0])
			return nil
		},
	}
}

func withRoles(roles []string) string {
	if len(roles) == 0 {
		return ", no role"
	}
	return " with " + strings.Join(roles, ", ")
}

func peopleList(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List the accounts",
		Example: "  ostiarius people list\n  ostiarius people list --role keeper --state enabled --sort signed-in --down -o json",
		Args:    noArgs,
	}
	var q client.PeopleQuery
	c.Flags().StringVar(&q.Search, "search", "", "text in name, e-mail address or notes")
	c.Flags().StringVar(&q.Role, "role", "", "only accounts with this role")
	c.Flags().StringVar(&q.State, "state", "", "only with this state, or people who want to register "+
		"or are invited: enabled, disabled, never, waiting, invited")
	c.Flags().StringVar(&q.Sort, "sort", "name", "order: name, email, made, signed-in")
	c.Flags().BoolVar(&q.Down, "down", false, "descending order")
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		for flag, allowed := range map[string][]string{
			"state": {"", "enabled", "disabled", "never", "waiting", "invited"}, "sort": {"name", "email", "made", "signed-in"},
		} {
			if value := c.Flags().Lookup(flag).Value.String(); !slices.Contains(allowed, value) {
				return errUsage{fmt.Errorf("--%s %s is unknown; use one of %s", flag, value, strings.TrimPrefix(strings.Join(allowed, ", "), ", "))}
			}
		}
		if q.State == "waiting" || q.State == "invited" {
			return listJoining(c, service(), q.State, format)
		}
		all, err := allPeople(c.Context(), service(), q)
		if err != nil {
			return err
		}
		none := "no accounts yet; `ostiarius people add NAME --role ROLE` adds one"
		if q.Search+q.Role+q.State != "" {
			none = "no matching accounts"
		}
		return writeList(c, format, all, none, "NAME\tROLES\tSTATE\tLAST SIGN-IN\tMADE\tBY", func(t io.Writer, p client.Person) {
			say(t, "%s\t%s\t%s\t%s\t%s\t%s\n", p.Name, dash(strings.Join(holding(p), ", ")), state(p), when(p.LastSignIn, "never"),
				p.MadeAt.Local().Format("2006-01-02"), p.MadeBy)
		})
	}
	return c
}

// holding tells the roles that an account has now, since when and until when.
func holding(p client.Person) (all []string) {
	now := time.Now()
	for _, role := range p.Roles {
		text := role
		for _, g := range p.Grants {
			if g.Role != role || g.From.After(now) || g.Until != nil && !g.Until.After(now) {
				continue
			}
			text += " since " + g.From.Local().Format(time.DateOnly)
			if g.Until != nil {
				text += " until " + ends(g.Until, "")
			}
			break
		}
		all = append(all, text)
	}
	return all
}

// allPeople fetches all accounts that a query means, part by part.
func allPeople(ctx context.Context, service *client.Client, q client.PeopleQuery) ([]client.Person, error) {
	all := []client.Person{}
	q.Limit = 1000
	for {
		q.Offset = len(all)
		part, err := client.ListPeople.Ask(ctx, service, q)
		if err != nil {
			return nil, err
		}
		all = append(all, part.People...)
		if len(part.People) == 0 || len(all) >= part.Total {
			return all, nil
		}
	}
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func state(p client.Person) string {
	switch {
	case p.Disabled:
		return "disabled"
	case p.NoPassword:
		return "no password"
	}
	return "enabled"
}

func when(t *time.Time, never string) string {
	if t == nil {
		return never
	}
	return t.Local().Format("2006-01-02 15:04")
}

// ends tells until when something counts: the last day that does, or the minute; never if there is no end.
func ends(t *time.Time, never string) string {
	if t == nil {
		return never
	}
	if last, is := words.LastDay(t.Local()); is {
		return last
	}
	return when(t, never)
}

func peopleShow(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "show NAME",
		Short:   "Show one account with its grants",
		Example: "  ostiarius people show ines",
		Args:    takes("NAME"),
	}
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		p, err := client.ShowPerson.Ask(c.Context(), service(), client.ByName{Name: args[0]})
		if err != nil {
			return err
		}
		if format == "json" {
			return writeJSON(c.OutOrStdout(), p)
		}
		t := tabwriter.NewWriter(c.OutOrStdout(), 0, 0, 2, ' ', 0)
		say(t, "name\t%s\ne-mail\t%s\nstate\t%s\nroles now\t%s\nmade\t%s by %s\nlast sign-in\t%s\n",
			p.Name, dash(p.Email), state(p), dash(strings.Join(p.Roles, ", ")), when(&p.MadeAt, ""), p.MadeBy, when(p.LastSignIn, "never"))
		if p.Notes != "" {
			say(t, "notes\t%s\n", p.Notes)
		}
		for _, g := range p.Grants {
			say(t, "grant\t%s, from %s, until %s, by %s\n", g.Role, when(&g.From, ""), ends(g.Until, "revoked"), g.By)
		}
		held, err := client.ShowFactors.Ask(c.Context(), service(), client.ByName{Name: args[0]})
		if err != nil {
			return err
		}
		sayFactors(t, held)
		return t.Flush()
	}
	return c
}

func peopleRemove(service func() *client.Client) *cobra.Command {
	return &cobra.Command{
		Use:     "remove NAME",
		Short:   "Remove an account with its grants and sessions",
		Example: "  ostiarius people remove ines",
		Args:    takes("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := client.RemovePerson.Do(c.Context(), service(), client.ByName{Name: args[0]}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "removed %s\n", args[0])
			return nil
		},
	}
}

func peopleSetPassword(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "set-password NAME",
		Short:   "Set a new password for an account and end its sessions",
		Example: `  echo "$PASSWORD" | ostiarius people set-password ines --password-stdin`,
		Args:    takes("NAME"),
	}
	password := passwordFlag(c)
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		secret, shown, err := password(c)
		if err != nil {
			return err
		}
		if err := client.SetPassword.Do(c.Context(), service(), client.NewPassword{Account: args[0], Password: secret}); err != nil {
			return err
		}
		return once(c, format, args[0], secret, shown, fmt.Sprintf("password of %s set; its sessions have ended\n", args[0]))
	}
	return c
}

func peopleGrant(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "grant NAME ROLE",
		Short: "Give a role to an account",
		Example: `  ostiarius people grant ines trustee
  ostiarius people grant walt keeper --until 2027-03-31`,
		Args: takes("NAME", "ROLE"),
	}
	from := c.Flags().String("from", "", "start of the grant: 2027-01-01, or 2027-01-01T18:00:00Z; default: now")
	until := c.Flags().String("until", "", "end of the grant: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, or 3d from now on")
	c.RunE = func(c *cobra.Command, args []string) error {
		g := client.NewGrant{Account: args[0], Role: args[1]}
		if *from != "" {
			begin, err := account.ParseTime(*from, time.Local, false)
			if err != nil {
				return errUsage{err}
			}
			g.From = &begin
		}
		var err error
		if g.Until, err = end("until", *until); err != nil {
			return err
		}
		if err := client.GrantRole.Do(c.Context(), service(), g); err != nil {
			return err
		}
		say(c.OutOrStdout(), "%s has the role %s, until %s\n", args[0], args[1], ends(g.Until, "it is revoked"))
		return nil
	}
	return c
}

func peopleRevoke(service func() *client.Client) *cobra.Command {
	return &cobra.Command{
		Use:     "revoke NAME ROLE",
		Short:   "Revoke a role from an account",
		Example: "  ostiarius people revoke ines trustee",
		Args:    takes("NAME", "ROLE"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := client.RevokeRole.Do(c.Context(), service(), client.RoleOf{Account: args[0], Role: args[1]}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "revoked the role %[2]s from %[1]s\n", args[0], args[1])
			return nil
		},
	}
}

func peopleSwitch(service func() *client.Client, verb, short string, disabled bool) *cobra.Command {
	return &cobra.Command{
		Use:     verb + " NAME",
		Short:   short,
		Example: "  ostiarius people " + verb + " ines",
		Args:    takes("NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := client.DisablePerson.Do(c.Context(), service(), client.Disabled{Account: args[0], Disabled: disabled}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "%sd %s\n", verb, args[0])
			return nil
		},
	}
}

// passwordFlag adds the flags that say where a password comes from, and returns a function
// that brings it: from standard input, generated, or else asked for twice on the terminal
// without showing it. A generated one is also returned as text to be shown, once.
func passwordFlag(c *cobra.Command) func(*cobra.Command) (password, shown string, err error) {
	fromInput := c.Flags().Bool("password-stdin", false, "read the password from the first line of standard input")
	generate := c.Flags().Bool("generate", false, "generate a password of random characters and show it once")
	make := newPassword(c)
	return func(c *cobra.Command) (string, string, error) {
		if *fromInput {
			line, err := bufio.NewReader(io.LimitReader(c.InOrStdin(), 4096)).ReadString('\n')
			if err != nil && !errors.Is(err, io.EOF) {
				return "", "", fmt.Errorf("the password can't be read from standard input: %w", err)
			}
			if line = strings.TrimRight(line, "\r\n"); line == "" {
				return "", "", errUsage{errors.New("standard input is empty; --password-stdin expects the password there")}
			}
			return line, "", nil
		}
		if *generate || c.Flags().Changed("words") || c.Flags().Changed("length") || c.Flags().Changed("all-characters") {
			password, err := make()
			return password, fmt.Sprintf("password  %s\n          (shown only once; keep it in a safe place)\n", password), err
		}
		terminal, ok := c.InOrStdin().(*os.File)
		if !ok || !term.IsTerminal(int(terminal.Fd())) {
			return "", "", errUsage{errors.New("there is no terminal to ask for the password; give it on standard input with " +
				"--password-stdin, or --generate one")}
		}
		ask := func(prompt string) (string, error) {
			fmt.Fprint(c.ErrOrStderr(), prompt)
			typed, err := term.ReadPassword(int(terminal.Fd()))
			fmt.Fprintln(c.ErrOrStderr())
			return string(typed), err
		}
		first, err := ask("Password: ")
		if err != nil {
			return "", "", err
		}
		second, err := ask("Repeat password: ")
		if err != nil {
			return "", "", err
		}
		if first != second {
			return "", "", errors.New("the passwords don't match; nothing was changed")
		}
		return first, "", nil
	}
}
