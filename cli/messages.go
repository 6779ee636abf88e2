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
		Short: "See the delivery of messages, and retry",
		Long: `Shows all messages and their delivery. If the mail server doesn't accept a message, it is tried again,
after a minute at first and then less often, until it expires. Then it has failed, unless you retry it.`,
		Example: `  ostiarius messages list --state failed
  ostiarius messages show 12
  ostiarius messages test agnes@marram.example`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	c.AddCommand(messagesList(service), messagesShow(service), messagesTest(service),
		messagesDo("retry", "Retry a message now that failed or is waiting", "retrying message %d\n",
			service, client.RetryMessage),
		messagesDo("drop", "Discard a message", "message %d was discarded\n", service, client.DropMessage))
	return c
}

func messagesList(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List the messages, newest first",
		Example: "  ostiarius messages list --state waiting\n  ostiarius messages list --search ines -o json",
		Args:    noArgs,
	}
	state := choice(c.Flags(), "state", "only with this state", "any", "waiting", "sent", "failed", "dropped")
	search := c.Flags().String("search", "", "only with this text in address, account or kind")
	limit := c.Flags().Int("limit", 100, "maximum number")
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
		return writeList(c, format, all, "no matching messages", "MESSAGE\tABOUT\tTO\tSTATE\tMADE\tTRIES\tNEXT\tPROBLEM",
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
		Short: "Show one message and its delivery",
		Long: `Shows one message. Its text is kept until it is sent or discarded. Its link is only for the recipient.
Without a mail server, --link prints it so you can pass it on; that is recorded.`,
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
			say(c.OutOrStdout(), "%s%s\nGive this link only to the recipient. It is valid until %s.\n", status.URL, l.Path,
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
			say(out, "next try %s, last before %s\n", when(m.NextAt, ""), when(&m.Until, ""))
		}
		if m.Problem != "" {
			say(out, "last problem: %s\n", shorten(m.Problem, 400))
		}
		if m.Subject == "" {
			say(out, "\nThe text is no longer kept.\n")
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
		return 0, errUsage{fmt.Errorf("%q isn't the number of a message; `ostiarius messages list` shows them", text)}
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
		Short:   "Send a test message",
		Example: "  ostiarius messages test agnes@marram.example",
		Args:    takes("ADDRESS"),
	}
	language := choice(c.Flags(), "language", "language of the message", "en", "de")
	c.RunE = func(c *cobra.Command, args []string) error {
		in, err := language()
		if err != nil {
			return err
		}
		if err := client.TestMail.Do(c.Context(), service(), client.TestMessage{To: args[0], Language: in}); err != nil {
			return err
		}
		say(c.OutOrStdout(), "a message is being sent to %s; `ostiarius messages list` shows its delivery\n", args[0])
		return nil
	}
	return c
}
