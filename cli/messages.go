package cli

import (
	"fmt"
	"io"
	"strconv"

	"github.com/spf13/cobra"

	"ostiarius/client"
)

func newMessages() *cobra.Command {
	c := &cobra.Command{
		Use:   "messages",
		Short: "See what became of the mails to people, and try again",
		Long: `Shows the mails that are written down to be sent, and what became of each. One that the mail
server does not take is tried again, after a minute and then less often, until its time is over;
then it has failed, until somebody says otherwise.`,
		Example: `  ostiarius messages list --state failed
  ostiarius messages show 12
  ostiarius messages test agnes@marram.example`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	c.AddCommand(messagesList(service), messagesShow(service), messagesTest(service),
		messagesDo("retry", "Try a message again now, one that failed or that waits for its turn", "message %d is handed over again\n",
			service, client.RetryMessage),
		messagesDo("drop", "Say that a message is not to be sent", "message %d is not sent\n", service, client.DropMessage))
	return c
}

func messagesList(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List the messages, the newest first",
		Example: "  ostiarius messages list --state waiting\n  ostiarius messages list --search ines -o json",
		Args:    noArgs,
	}
	state := choice(c.Flags(), "state", "only those of this state", "any", "waiting", "sent", "failed", "dropped")
	search := c.Flags().String("search", "", "only those with this text in address, account or kind")
	limit := c.Flags().Int("limit", 100, "how many at most")
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		which, err := state()
		if err != nil {
			return err
		}
		if which == "any" {
			which = ""
		}
		all, err := upTo(*limit, func(of client.Message) int64 { return of.ID }, func(before int64, most int) ([]client.Message, error) {
			part, err := client.ListMessages.Ask(c.Context(), service(),
				client.MessageQuery{State: which, Search: *search, Before: before, Limit: most})
			return part.Messages, err
		})
		if err != nil {
			return err
		}
		return writeList(c, format, all, "there is no such message", "MESSAGE\tABOUT\tTO\tSTATE\tMADE\tTRIES\tNEXT\tPROBLEM",
			func(t io.Writer, m client.Message) {
				say(t, "%d\t%s\t%s\t%s\t%s\t%d\t%s\t%s\n", m.ID, m.Kind, shorten(m.To, 40), m.State, when(&m.MadeAt, ""), m.Tries,
					when(m.NextAt, "-"), dash(shorten(m.Problem, 60)))
			})
	}
	return c
}

func messagesShow(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "show MESSAGE",
		Short: "Show one message, what it says and what became of it",
		Long: `Shows one message. What it says is there until it is sent or dropped. Its link is for whom it is
sent to; where there is no mail server, --link prints it, to be passed on, and that is recorded.`,
		Example: "  ostiarius messages show 12\n  ostiarius messages show 12 --link",
		Args:    takes("MESSAGE"),
	}
	link := c.Flags().Bool("link", false, "print the link, to pass it on where there is no mail server")
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		id, err := messageNumber(args[0])
		if err != nil {
			return err
		}
		if *link {
			l, err := client.RevealMailLink.Ask(c.Context(), service(), client.ByNumber{ID: id})
			if err != nil {
				return err
			}
			status, err := client.ShowStatus.Ask(c.Context(), service(), client.None{})
			if err != nil {
				return err
			}
			if format == "json" {
				return writeJSON(c.OutOrStdout(), map[string]any{"link": status.URL + l.Path, "until": l.Until})
			}
			say(c.OutOrStdout(), "%s%s\nGive this link only to whom the message is for. It works until %s.\n", status.URL, l.Path,
				when(&l.Until, ""))
			return nil
		}
		m, err := client.ShowMessage.Ask(c.Context(), service(), client.ByNumber{ID: id})
		if err != nil || format == "json" {
			if err == nil {
				err = writeJSON(c.OutOrStdout(), m)
			}
			return err
		}
		out := c.OutOrStdout()
		say(out, "message %d, %s, to %s\nwritten down %s; tried %s; %s", m.ID, m.Kind, shorten(m.To, 254), when(&m.MadeAt, ""),
			times(m.Tries), m.State)
		if m.EndedAt != nil {
			say(out, " %s", when(m.EndedAt, ""))
		}
		say(out, "\n")
		if m.NextAt != nil {
			say(out, "next try %s, and none after %s\n", when(m.NextAt, ""), when(&m.Until, ""))
		}
		if m.Problem != "" {
			say(out, "the last problem: %s\n", shorten(m.Problem, 400))
		}
		if m.Subject == "" {
			say(out, "\nWhat it said is not kept.\n")
			return nil
		}
		say(out, "\n%s\n\n%s", ready(safe(m.Subject, false)), ready(safe(m.Text, true)))
		return nil
	}
	return c
}

func times(n int) string {
	switch n {
	case 0:
		return "not yet"
	case 1:
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func messageNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, errUsage{fmt.Errorf("%q is no number of a message; `ostiarius messages list` shows them", text)}
	}
	return id, nil
}

// messagesDo is a command that does something with one message and says so.
func messagesDo(verb, short, done string, service func() *client.Client, act client.Call[client.ByNumber, client.None]) *cobra.Command {
	c := &cobra.Command{Use: verb + " MESSAGE", Short: short, Example: "  ostiarius messages " + verb + " 12", Args: takes("MESSAGE")}
	c.RunE = func(c *cobra.Command, args []string) error {
		id, err := messageNumber(args[0])
		if err == nil {
			err = act.Do(c.Context(), service(), client.ByNumber{ID: id})
		}
		if err == nil {
			say(c.OutOrStdout(), done, id)
		}
		return err
	}
	return c
}

func messagesTest(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "test ADDRESS",
		Short:   "Send a message that shows whether mail arrives",
		Example: "  ostiarius messages test agnes@marram.example",
		Args:    takes("ADDRESS"),
	}
	language := choice(c.Flags(), "language", "in which it is written", "en", "de")
	c.RunE = func(c *cobra.Command, args []string) error {
		in, err := language()
		if err != nil {
			return err
		}
		if err := client.TestMail.Do(c.Context(), service(), client.TestMessage{To: args[0], Language: in}); err != nil {
			return err
		}
		say(c.OutOrStdout(), "a message to %s is written down and handed over next; `ostiarius messages list` says what becomes of it\n", args[0])
		return nil
	}
	return c
}
