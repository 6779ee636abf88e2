package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/account"
	"ostiarius/core/document"
)

// end reads when something ends: a date, that day included, a time, or a duration from now on.
func end(flag, text string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if d, err := document.ParseDuration(text); err == nil && d > 0 {
		at := time.Now().Add(d)
		return &at, nil
	}
	at, err := account.ParseTime(text, time.Local, true)
	if err != nil {
		return nil, errUsage{fmt.Errorf("--%s: %w, or how long from now on, such as 3d", flag, err)}
	}
	return &at, nil
}

func peopleInvite(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "invite ADDRESS",
		Short: "Invite someone to create an account",
		Long: `Sends a link to create one account. The person chooses a username and password, and gets the roles named
here in addition to those that everyone gets who registers. An earlier invitation to the same address
ends. With --link the link is printed instead of sent.`,
		Example: "  ostiarius people invite sigrid@marram.example --role keeper\n  ostiarius people invite sigrid@marram.example --role " +
			"guide --until 2027-03-31 --lasts 3d --link",
		Args: takes("ADDRESS"),
	}
	roles := c.Flags().StringArray("role", nil, "role to grant; repeatable")
	until := c.Flags().String("until", "", "when the roles end: 2027-03-31, that day included, or 3d from now on")
	lasts := c.Flags().String("lasts", "14d", "how long the invitation is valid")
	language := choice(c.Flags(), "language", "language of the e-mail", "en", "de")
	link := c.Flags().Bool("link", false, "print the link instead of sending it")
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		n := client.NewInvitation{Email: args[0], Roles: *roles, Mail: !*link}
		if n.Language, err = language(); err != nil {
			return err
		}
		if n.Ends, err = end("until", *until); err != nil {
			return err
		}
		d, err := document.ParseDuration(*lasts)
		if err != nil || d <= 0 {
			return errUsage{fmt.Errorf("--lasts %s is no duration; write one like 14d", *lasts)}
		}
		n.Lasts = int64(d / time.Second)
		invited, err := client.Invite.Ask(c.Context(), service(), n)
		if err != nil {
			return err
		}
		status, err := client.ShowStatus.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		if invited.Path != "" {
			invited.Path = status.URL + invited.Path
		}
		switch {
		case format == "json":
			return writeJSON(c.OutOrStdout(), map[string]any{"link": invited.Path, "until": invited.Until})
		case *link:
			say(c.OutOrStdout(), "%s\nGive this link only to %s. It creates one account and is valid until %s.\n", invited.Path, args[0],
				when(&invited.Until, ""))
		default:
			say(c.OutOrStdout(), "an invitation is being sent to %s; it is valid until %s\n", args[0], when(&invited.Until, ""))
		}
		return nil
	}
	return c
}

func peopleApprove(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use: "approve NAME", Short: "Approve a registration", Example: "  ostiarius people approve sigrid", Args: takes("NAME"),
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		err := client.ApproveApplication.Do(c.Context(), service(), client.ByName{Name: args[0]})
		if err == nil {
			say(c.OutOrStdout(), "approved; %s has an account and was informed by e-mail\n", args[0])
		}
		return err
	}
	return c
}

func peopleDecline(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use: "decline NAME", Short: "Decline a registration",
		Example: "  ostiarius people decline sigrid --because \"all watches are filled\"", Args: takes("NAME"),
	}
	because := c.Flags().String("because", "", "message for the e-mail")
	c.RunE = func(c *cobra.Command, args []string) error {
		err := client.DeclineApplication.Do(c.Context(), service(), client.Declining{Account: args[0], Text: *because})
		if err == nil {
			say(c.OutOrStdout(), "declined %s\n", args[0])
		}
		return err
	}
	return c
}

func peopleUninvite(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use: "uninvite ADDRESS", Short: "End an invitation", Example: "  ostiarius people uninvite sigrid@marram.example", Args: takes("ADDRESS"),
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		err := client.RevokeInvitation.Do(c.Context(), service(), client.ByEmail{Email: args[0]})
		if err == nil {
			say(c.OutOrStdout(), "the invitation to %s was ended\n", args[0])
		}
		return err
	}
	return c
}

// listJoining lists who waits, or who is invited.
func listJoining(c *cobra.Command, service *client.Client, state, format string) error {
	all, err := client.ListJoining.Ask(c.Context(), service, client.None{})
	if err != nil {
		return err
	}
	if state == "invited" {
		return writeList(c, format, all.Invitations, "no invitations; `ostiarius people invite ADDRESS` sends one",
			"ADDRESS\tROLES\tTHEY END\tINVITED\tBY\tUNTIL", func(t io.Writer, i client.Invitation) {
				say(t, "%s\t%s\t%s\t%s\t%s\t%s\n", shorten(i.Email, 60), dash(strings.Join(i.Roles, ", ")), ends(i.Ends, "never"),
					when(&i.MadeAt, ""), i.MadeBy, when(&i.Until, ""))
			})
	}
	return writeList(c, format, all.Applications, "no registrations are waiting", "NAME\tADDRESS\tSTATE\tSINCE\tUNTIL",
		func(t io.Writer, a client.Application) {
			say(t, "%s\t%s\t%s\t%s\t%s\n", a.Name, shorten(a.Email, 60), a.State, when(&a.MadeAt, ""), when(&a.Until, ""))
		})
}
