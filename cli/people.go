package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ostiarius/client"
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
		peopleSetPassword(service), peopleGrant(service), peopleRevoke(service),
		peopleSwitch(service, "disable", "Switch an account off and end its sessions", true),
		peopleSwitch(service, "enable", "Switch an account on again", false),
	)
	return c
}

func peopleAdd(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "add NAME",
		Short: "Add an account",
		Long:  "Adds an account. The password is asked for on the terminal, or read from standard input\nwith --password-stdin.",
		Example: `  ostiarius people add ines --role keeper --email ines@marram.example
  echo "$PASSWORD" | ostiarius people add ines --role keeper --role trustee --password-stdin`,
		Args: takes("NAME"),
	}
	roles := c.Flags().StringArray("role", nil, "role to grant; can be given several times")
	email := c.Flags().String("email", "", "e-mail address")
	password := passwordFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		secret, err := password(c)
		if err != nil {
			return err
		}
		p, err := service().AddPerson(c.Context(), client.NewPerson{Name: args[0], Email: *email, Password: secret, Roles: *roles})
		if err != nil {
			return err
		}
		fmt.Fprintf(c.OutOrStdout(), "added %s%s\n", p.Name, withRoles(p.Roles))
		return nil
	}
	return c
}

func withRoles(roles []string) string {
	if len(roles) == 0 {
		return ", without a role"
	}
	return " with " + strings.Join(roles, ", ")
}

func peopleList(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List the accounts",
		Example: "  ostiarius people list -o json",
		Args:    noArgs,
	}
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		all, err := service().People(c.Context())
		if err != nil {
			return err
		}
		if format == "json" {
			return writeJSON(c.OutOrStdout(), all)
		}
		if len(all) == 0 {
			fmt.Fprintln(c.OutOrStdout(), "no accounts yet; `ostiarius people add NAME --role ROLE` adds one")
			return nil
		}
		t := tabwriter.NewWriter(c.OutOrStdout(), 0, 0, 2, ' ', 0)
		fmt.Fprintln(t, "NAME\tROLES\tSTATE\tLAST SIGN-IN\tMADE\tBY")
		for _, p := range all {
			fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%s\n", p.Name, dash(strings.Join(p.Roles, ", ")), state(p), when(p.LastSignIn, "never"), p.MadeAt.Local().Format("2006-01-02"), p.MadeBy)
		}
		return t.Flush()
	}
	return c
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func state(p client.Person) string {
	if p.Disabled {
		return "disabled"
	}
	return "enabled"
}

func when(t *time.Time, never string) string {
	if t == nil {
		return never
	}
	return t.Local().Format("2006-01-02 15:04")
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
		p, err := service().Person(c.Context(), args[0])
		if err != nil {
			return err
		}
		if format == "json" {
			return writeJSON(c.OutOrStdout(), p)
		}
		t := tabwriter.NewWriter(c.OutOrStdout(), 0, 0, 2, ' ', 0)
		fmt.Fprintf(t, "name\t%s\ne-mail\t%s\nstate\t%s\nroles now\t%s\nmade\t%s by %s\nlast sign-in\t%s\n",
			p.Name, dash(p.Email), state(p), dash(strings.Join(p.Roles, ", ")), when(&p.MadeAt, ""), p.MadeBy, when(p.LastSignIn, "never"))
		for _, g := range p.Grants {
			fmt.Fprintf(t, "grant\t%s, from %s, until %s, by %s\n", g.Role, when(&g.From, ""), when(g.Until, "revoked"), g.By)
		}
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
			if err := service().RemovePerson(c.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "removed %s\n", args[0])
			return nil
		},
	}
}

func peopleSetPassword(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "set-password NAME",
		Short:   "Give an account another password and end its sessions",
		Example: `  echo "$PASSWORD" | ostiarius people set-password ines --password-stdin`,
		Args:    takes("NAME"),
	}
	password := passwordFlag(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		secret, err := password(c)
		if err != nil {
			return err
		}
		if err := service().SetPassword(c.Context(), args[0], secret); err != nil {
			return err
		}
		fmt.Fprintf(c.OutOrStdout(), "password of %s set; its sessions have ended\n", args[0])
		return nil
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
	until := c.Flags().String("until", "", "end of the grant: 2027-03-31 (its end), or 2027-03-31T18:00:00Z")
	c.RunE = func(c *cobra.Command, args []string) error {
		g := client.NewGrant{Role: args[1]}
		if *until != "" {
			end, err := parseTime(*until)
			if err != nil {
				return errUsage{err}
			}
			g.Until = &end
		}
		if err := service().Grant(c.Context(), args[0], g); err != nil {
			return err
		}
		fmt.Fprintf(c.OutOrStdout(), "%s has the role %s, until %s\n", args[0], args[1], when(g.Until, "it is revoked"))
		return nil
	}
	return c
}

// parseTime reads a time, or a date that stands for its end.
func parseTime(s string) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t, nil
	}
	if t, err := time.ParseInLocation("2006-01-02", s, time.Local); err == nil {
		return t.AddDate(0, 0, 1), nil
	}
	return time.Time{}, fmt.Errorf("%q is no time; write a date such as 2027-03-31, or a time such as 2027-03-31T18:00:00Z", s)
}

func peopleRevoke(service func() *client.Client) *cobra.Command {
	return &cobra.Command{
		Use:     "revoke NAME ROLE",
		Short:   "Take a role from an account",
		Example: "  ostiarius people revoke ines trustee",
		Args:    takes("NAME", "ROLE"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := service().Revoke(c.Context(), args[0], args[1]); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s has the role %s no more\n", args[0], args[1])
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
			if err := service().SetDisabled(c.Context(), args[0], disabled); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%sd %s\n", verb, args[0])
			return nil
		},
	}
}

// passwordFlag adds --password-stdin and returns a function that reads the password from
// there, or else asks for it twice on the terminal without showing it.
func passwordFlag(c *cobra.Command) func(*cobra.Command) (string, error) {
	fromInput := c.Flags().Bool("password-stdin", false, "read the password from the first line of standard input")
	return func(c *cobra.Command) (string, error) {
		if *fromInput {
			line, err := bufio.NewReader(io.LimitReader(c.InOrStdin(), 4096)).ReadString('\n')
			if err != nil && !errors.Is(err, io.EOF) {
				return "", fmt.Errorf("the password cannot be read from standard input: %w", err)
			}
			if line = strings.TrimRight(line, "\r\n"); line == "" {
				return "", errUsage{errors.New("standard input is empty; --password-stdin expects the password there")}
			}
			return line, nil
		}
		terminal, ok := c.InOrStdin().(*os.File)
		if !ok || !term.IsTerminal(int(terminal.Fd())) {
			return "", errUsage{errors.New("there is no terminal to ask for the password; give it on standard input with --password-stdin")}
		}
		ask := func(prompt string) (string, error) {
			fmt.Fprint(c.ErrOrStderr(), prompt)
			typed, err := term.ReadPassword(int(terminal.Fd()))
			fmt.Fprintln(c.ErrOrStderr())
			return string(typed), err
		}
		first, err := ask("Password: ")
		if err != nil {
			return "", err
		}
		second, err := ask("Once more: ")
		if err != nil {
			return "", err
		}
		if first != second {
			return "", errors.New("the two passwords differ; nothing was changed")
		}
		return first, nil
	}
}
