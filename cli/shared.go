package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/document"
)

func newShared() *cobra.Command {
	c := &cobra.Command{
		Use:   "shared",
		Short: "Manage shared passwords: one password for everyone who should get in",
		Long: `Manages shared passwords. They are declared in the policy, under shared. Only hashes of the passwords
are stored.`,
		Example: `  ostiarius shared set press-kit --generate --words 4 --data ./data
  ostiarius shared rotate press-kit --grace 24h --tell
  echo "$PASSWORD" | ostiarius shared send press-kit --to editor@gazette.example --password-stdin`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	c.AddCommand(sharedList(service), sharedSet(service), sharedRotate(service), sharedEnd(service), sharedSend(service))
	return c
}

func sharedList(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "list [NAME]",
		Short: "List the shared passwords, or the browsers where one is unlocked",
		Long: `Lists the shared passwords, with the number of valid passwords and of browsers where each is
unlocked. With a NAME it lists these browsers; with --told, the recipients of the password.`,
		Example: "  ostiarius shared list\n  ostiarius shared list press-kit\n  ostiarius shared list press-kit --told",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return takes("NAME")(c, args)
			}
			return nil
		},
	}
	told := c.Flags().Bool("told", false, "list the recipients")
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		all, err := client.ListShared.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		if len(args) == 0 {
			if *told {
				return errUsage{errors.New("--told needs a NAME")}
			}
			return writeList(c, format, all, "the policy has no shared passwords; declare them under shared",
				"NAME\tTITLE\tOPENS\tPASSWORDS\tUNLOCKED IN\tLASTS", func(t io.Writer, s client.SharedPassword) {
					say(t, "%s\t%s\t%s\t%s\t%d\t%s\n", s.Name, s.Title, dash(s.Place), validText(s), s.Unlocks, unlockLasts(s.Lasts))
				})
		}
		if !slices.ContainsFunc(all, func(s client.SharedPassword) bool { return s.Name == args[0] }) {
			return fmt.Errorf("there is no shared password %q; `ostiarius shared list` shows all", args[0])
		}
		if *told {
			tellings, err := client.ListTold.Ask(c.Context(), service(), client.ByName{Name: args[0]})
			if err != nil {
				return err
			}
			return writeList(c, format, tellings.Tellings, "it was never sent with `ostiarius shared send`", "ADDRESS\tSENT\tBY",
				func(t io.Writer, one client.Telling) {
					say(t, "%s\t%s\t%s\n", shorten(one.Address, 60), when(&one.At, ""), one.Actor)
				})
		}
		found, err := client.ListUnlocks.Ask(c.Context(), service(), client.ByName{Name: args[0]})
		if err != nil {
			return err
		}
		return writeList(c, format, found.Unlocks, "it isn't unlocked in any browser", "UNLOCK\tSINCE\tUNTIL\tFROM\tACCOUNT\tBROWSER",
			func(t io.Writer, u client.Unlock) {
				say(t, "%s\t%s\t%s\t%s\t%s\t%s\n", u.Handle, when(&u.MadeAt, ""), when(u.Until, "-"), u.Network, dash(u.Account), shorten(u.Agent, 40))
			})
	}
	return c
}

func validText(s client.SharedPassword) string {
	switch {
	case s.Gone:
		return "not in the policy"
	case len(s.Passwords) == 0:
		return "none set: closed"
	}
	text := fmt.Sprint(len(s.Passwords))
	if last := s.Passwords[len(s.Passwords)-1]; last.Until != nil {
		text += ", one until " + when(last.Until, "")
	}
	return text
}

func unlockLasts(lasts string) string {
	if lasts == "0" {
		return "until the browser is closed"
	}
	return lasts
}

// sharedChange adds the flags of a command that gives a shared password another one, and returns how it is carried out.
func sharedChange(service func() *client.Client, c *cobra.Command, fromTerminal bool) func(c *cobra.Command, name string,
	s client.NewShared, note string, told func(password string) error) error {
	password := passwordFlag(c)
	output := outputFlag(c, "text", "json")
	return func(c *cobra.Command, name string, s client.NewShared, note string, told func(password string) error) error {
		format, err := output()
		if err != nil {
			return err
		}
		if !fromTerminal && !c.Flags().Changed("password-stdin") {
			c.Flags().Set("generate", "true")
		}
		secret, shown, err := password(c)
		if err != nil {
			return err
		}
		s.Name, s.Password = name, secret
		if err := client.SetShared.Do(c.Context(), service(), s); err != nil {
			return err
		}
		if format == "json" {
			answer := map[string]any{"name": name}
			if shown != "" {
				answer["password"] = secret
			}
			err = writeJSON(c.OutOrStdout(), answer)
		} else {
			say(c.OutOrStdout(), "%s has another password; %s\n%s", name, note, ready(shown))
		}
		if err == nil && told != nil {
			err = told(secret)
		}
		return err
	}
}

func sharedSet(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "set NAME",
		Short: "Set the password; the previous one stops working",
		Long: `Sets the password. The previous one stops working, and browsers have to unlock again, unless you use
--keep-unlocks.`,
		Example: "  ostiarius shared set press-kit --generate --words 4\n  echo \"$PASSWORD\" | ostiarius shared set press-kit --password-stdin",
		Args:    takes("NAME"),
	}
	keep := c.Flags().Bool("keep-unlocks", false, "keep places unlocked where they are unlocked now")
	change := sharedChange(service, c, true)
	c.RunE = func(c *cobra.Command, args []string) error {
		note := "the previous one no longer works, and its unlocks have ended"
		if *keep {
			note = "the previous one no longer works; its unlocks stay"
		}
		return change(c, args[0], client.NewShared{EndUnlocks: !*keep}, note, nil)
	}
	return c
}

func sharedRotate(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "rotate NAME",
		Short: "Change the password; with --grace, the previous one works for some time",
		Long: `Changes the password to a generated one, which is shown once, or to one from --password-stdin. With
--grace the previous ones also work for that time, at most three at once. Unlocks stay, unless you use
--end-unlocks. With --tell, all recipients of the previous password get the new one by e-mail.`,
		Example: "  ostiarius shared rotate press-kit --grace 24h\n  ostiarius shared rotate press-kit --grace 7d --tell",
		Args:    takes("NAME"),
	}
	grace := c.Flags().String("grace", "0s", "how long the previous ones also work, such as 24h or 7d")
	end := c.Flags().Bool("end-unlocks", false, "end all unlocks")
	tell := c.Flags().Bool("tell", false, "e-mail it to everyone who received it before")
	change := sharedChange(service, c, false)
	c.RunE = func(c *cobra.Command, args []string) error {
		both, err := document.ParseDuration(*grace)
		if err != nil {
			return errUsage{fmt.Errorf("--grace %s is not a duration; use one like 24h", *grace)}
		}
		note := "the previous one no longer works"
		if both > 0 {
			note = "the previous one works for another " + document.FormatDuration(both)
		}
		var told func(password string) error
		if *tell {
			told = func(password string) error { return tellAgain(c, service(), args[0], password) }
		}
		return change(c, args[0], client.NewShared{Grace: int64(both / time.Second), EndUnlocks: *end}, note, told)
	}
	return c
}

// tellAgain mails a password to everybody who was told the shared password before.
func tellAgain(c *cobra.Command, service *client.Client, name, password string) error {
	before, err := client.ListTold.Ask(c.Context(), service, client.ByName{Name: name})
	if err != nil {
		return err
	}
	if len(before.Tellings) == 0 {
		say(c.ErrOrStderr(), "nobody received it before\n")
		return nil
	}
	if before.Total > len(before.Tellings) {
		return fmt.Errorf("it was sent %d times before, and only %d recipients are listed; send it with your own list: ostiarius shared send "+
			"%s --file FILE", before.Total, len(before.Tellings), name)
	}
	var to []string
	for _, t := range before.Tellings {
		if !slices.Contains(to, t.Address) {
			to = append(to, t.Address)
		}
	}
	done, err := client.SendShared.Ask(c.Context(), service, client.TellShared{Name: name, To: strings.Join(to, "\n"), Password: password})
	if err == nil {
		say(c.ErrOrStderr(), "%s\n", messageCount(len(done.Recipients)))
	}
	return err
}

func messageCount(n int) string {
	if n == 1 {
		return "sending 1 message"
	}
	return fmt.Sprintf("sending %d messages", n)
}

func addressCount(n int) string {
	if n == 1 {
		return "to 1 address"
	}
	return fmt.Sprintf("to %d addresses", n)
}

func sharedEnd(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "end NAME",
		Short: "End the unlocks of a shared password",
		Long: `Ends the unlocks in all browsers, or in one with --unlock. People who know the password can unlock again.
With --password the password is withdrawn, too, and the door stays closed until you set a new one.`,
		Example: "  ostiarius shared end press-kit\n  ostiarius shared end press-kit --unlock 3fa85f6457174562b3fc\n  ostiarius shared end " +
			"press-kit --password",
		Args: takes("NAME"),
	}
	one := c.Flags().String("unlock", "", "only this one, from `ostiarius shared list NAME`")
	password := c.Flags().Bool("password", false, "withdraw the password too")
	c.RunE = func(c *cobra.Command, args []string) error {
		switch {
		case *one != "" && *password:
			return errUsage{errors.New("--unlock and --password can't be used together")}
		case *one != "":
			if err := client.EndUnlock.Do(c.Context(), service(), client.ByHandle{Handle: *one}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "ended the unlock %s\n", *one)
		case *password:
			if err := client.EndShared.Do(c.Context(), service(), client.ByName{Name: args[0]}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "%s has no password now, and all unlocks have ended\n", args[0])
		default:
			if err := client.EndUnlocks.Do(c.Context(), service(), client.ByName{Name: args[0]}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "all unlocks of %s have ended; its password is still valid\n", args[0])
		}
		return nil
	}
	return c
}

func sharedSend(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "send NAME",
		Short: "E-mail the address and the password to people",
		Long: `E-mails the address and the password to people, with your own text. Only the hash is stored, so you have
to enter the password; it is checked. Recipients and times are recorded.

In your text, {title}, {site}, {name}, {place} and {url} are filled in; an empty line starts a new
paragraph. Without --text the default text is used. --dry-run shows what would be sent to whom, and
checks the password if you enter one.`,
		Example: `  echo "$PASSWORD" | ostiarius shared send press-kit --to editor@gazette.example --password-stdin
  echo "$PASSWORD" | ostiarius shared send press-kit --file editors.csv --text letter.txt --password-stdin --dry-run`,
		Args: takes("NAME"),
	}
	to := c.Flags().StringArray("to", nil, "an e-mail address; repeatable")
	file := c.Flags().String("file", "", "file with addresses, one per line, or CSV with an address column")
	role := c.Flags().String("role", "", "everyone with this role and an address")
	text := c.Flags().String("text", "", "file with your own text; standard input is used for the password")
	language := c.Flags().String("language", "", "language of the default text: en or de")
	dry := c.Flags().Bool("dry-run", false, "show what would be sent to whom, and send nothing")
	password := passwordFlag(c)
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if len(*to) == 0 && *file == "" && *role == "" {
			return errUsage{errors.New("name the recipients: --to ADDRESS, --file FILE or --role ROLE")}
		}
		t := client.TellShared{Name: args[0], To: strings.Join(*to, "\n"), Role: *role, Language: *language}
		if *file != "" {
			list, err := readInput(c, *file)
			if err != nil {
				return fmt.Errorf("the file can't be read: %w", err)
			}
			if t.To != "" { // a list with a head line has to begin with it
				return errUsage{errors.New("--to and --file can't be used together")}
			}
			t.To = string(list)
		}
		if *text != "" {
			own, err := readInput(c, *text)
			if err != nil {
				return fmt.Errorf("the text can't be read: %w", err)
			}
			t.Text = string(own)
		}
		if *dry {
			t.Password = unknownPassword
			if c.Flags().Changed("password-stdin") || c.Flags().Changed("generate") {
				if t.Password, _, err = password(c); err != nil {
					return err
				}
			}
			done, err := client.PreviewShared.Ask(c.Context(), service(), t)
			if err != nil {
				return err
			}
			if format == "json" {
				return writeJSON(c.OutOrStdout(), done)
			}
			wrong := 0
			for _, r := range done.Recipients {
				if r.Wrong != "" {
					wrong++
					say(c.OutOrStdout(), "line %d: %s\n", r.Line, r.Wrong)
				}
			}
			say(c.OutOrStdout(), "%s; nothing was sent: this was a dry run\n", addressCount(len(done.Recipients)-wrong))
			if done.Letter != nil {
				say(c.OutOrStdout(), "\n%s\n\n%s", done.Letter.Subject, ready(safe(done.Letter.Text, true)))
			}
			if wrong > 0 {
				return errSilent
			}
			return nil
		}
		if t.Password, _, err = password(c); err != nil {
			return err
		}
		done, err := client.SendShared.Ask(c.Context(), service(), t)
		if err != nil {
			return err
		}
		if format == "json" {
			return writeJSON(c.OutOrStdout(), done)
		}
		say(c.OutOrStdout(), "%s; `ostiarius messages list` shows their delivery\n", messageCount(len(done.Recipients)))
		return nil
	}
	return c
}

// unknownPassword stands in a preview for a password that was not given. No password is that short.
const unknownPassword = "-"
