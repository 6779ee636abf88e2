package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func newEvents() *cobra.Command {
	c := &cobra.Command{
		Use:   "events",
		Short: "See the events of a shop, and notify other programs",
		Long: `Shows what a shop reported about its orders, and the result. An event that can't be processed, for
example because the policy doesn't have the item, is kept until you retry or drop it. The policy
says under items what an item opens.`,
		Example: `  ostiarius events secret --generate
  ostiarius events list --state kept
  ostiarius events import payments.csv --dry-run`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	c.AddCommand(eventsList(service), eventsShow(service),
		eventsDo("retry", "Process an event that was kept, or send its link to the buyer again",
			"event %d was processed; if it waits for its buyer, a new link was sent\n", service, client.RetryShopEvent),
		eventsDo("drop", "Discard an event that was kept", "event %d was discarded\n", service, client.DropShopEvent),
		eventsImport(service), eventsSecret(service), eventsTargets(service))
	return c
}

// eventsAddress is where a shop sends its events, as far as the service says so.
func eventsAddress(ctx context.Context, service *client.Client) string {
	prefix := policy.DefaultPrefix
	if v, err := client.ShowPolicy.Ask(ctx, service, client.None{}); err == nil {
		if book, _ := read.Parse("doors.yaml", []byte(v.Text)); book != nil {
			prefix = book.Prefix
		}
	}
	status, err := client.ShowStatus.Ask(ctx, service, client.None{})
	if err != nil {
		status.URL = ""
	}
	return status.URL + prefix + "/events"
}

func eventsList(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List the events, newest first",
		Example: "  ostiarius events list --state kept\n  ostiarius events list --search mo@marram.example -o json",
		Args:    noArgs,
	}
	state := choice(c.Flags(), "state", "only with this state", "any", "waiting", "done", "kept", "ignored")
	search := c.Flags().String("search", "", "only with this text in order, address, name or type")
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
		all, err := upTo(*limit, func(of client.ShopEvent) int64 { return of.ID }, func(before int64, most int) ([]client.ShopEvent, error) {
			part, err := client.ListShopEvents.Ask(c.Context(), service(),
				client.ShopEventQuery{State: which, Search: *search, Before: before, Limit: most})
			return part.Events, err
		})
		if err != nil {
			return err
		}
		return writeList(c, format, all, "no matching events", "EVENT\tRECEIVED\tTYPE\tORDER\tBUYER\tITEMS\tSTATE\tREMARK",
			func(t io.Writer, e client.ShopEvent) {
				say(t, "%d\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", e.ID, when(&e.At, ""), e.Type, dash(shorten(e.Order, 24)),
					dash(shorten(buyerOf(e), 40)), dash(shorten(itemsOf(e), 40)), e.State, dash(shorten(e.Problem, 60)))
			})
	}
	return c
}

func buyerOf(e client.ShopEvent) string {
	if e.Account != "" {
		return e.Account
	}
	return e.Address
}

func itemsOf(e client.ShopEvent) string {
	var all []string
	for _, item := range e.Items {
		text := item.Item
		if item.Number > 1 {
			text = fmt.Sprintf("%d %s", item.Number, text)
		}
		all = append(all, text)
	}
	return strings.Join(all, ", ")
}

func eventsShow(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "show EVENT",
		Short:   "Show one event and its result",
		Example: "  ostiarius events show 12",
		Args:    takes("EVENT"),
	}
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		id, err := eventNumber(args[0])
		if err != nil {
			return err
		}
		e, err := client.ShowShopEvent.Ask(c.Context(), service(), client.ByNumber{ID: id})
		if err != nil {
			return err
		}
		out := c.OutOrStdout()
		if format == "json" {
			return writeJSON(out, e)
		}
		say(out, "event    %d, %s, from the %s with the number %s\ncame     %s\norder    %s\n", e.ID, e.Type, e.Source,
			shorten(e.Number, 60), when(&e.At, ""), e.Order)
		if e.Name != "" || buyerOf(e) != "" {
			say(out, "buyer    %s", dash(buyerOf(e)))
			if e.Name != "" {
				say(out, " (%s)", e.Name)
			}
			say(out, "\n")
		}
		for _, item := range e.Items {
			say(out, "item     %d %s", item.Number, item.Item)
			if item.Name != "" {
				say(out, " (%s)", item.Name)
			}
			say(out, "\n")
		}
		if e.Happened != nil {
			say(out, "at       %s\n", when(e.Happened, ""))
		}
		if e.Until != nil {
			say(out, "until    %s\n", ends(e.Until, ""))
		}
		say(out, "state    %s", e.State)
		if e.DoneAt != nil {
			say(out, " %s", when(e.DoneAt, ""))
		}
		say(out, "\n")
		if e.Problem != "" {
			say(out, "remark   %s\n", e.Problem)
		}
		return nil
	}
	return c
}

func eventNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, errUsage{fmt.Errorf("%q isn't the number of an event; `ostiarius events list` shows them", text)}
	}
	return id, nil
}

// eventsDo is a command that does something with one event and says so.
func eventsDo(verb, short, done string, service func() *client.Client, act client.Call[client.ByNumber, client.None]) *cobra.Command {
	c := &cobra.Command{Use: verb + " EVENT", Short: short, Example: "  ostiarius events " + verb + " 12", Args: takes("EVENT")}
	c.RunE = func(c *cobra.Command, args []string) error {
		id, err := eventNumber(args[0])
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

func eventsImport(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Import payments from CSV, as if the shop had sent them",
		Long: `Imports a list of payments: CSV with a header row (order, address, item; optionally name, account,
type, number, until, at, language); - is standard input. The type is paid (default), renewed,
refunded, cancelled or lapsed. Rows with the same order number form one order. Rows imported before
are skipped.`,
		Example: "  ostiarius events import payments.csv --dry-run\n  ostiarius events import payments.csv",
		Args:    takes("FILE"),
	}
	bringIn := importFlags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		var done client.ImportedPayments
		return bringIn(c, args[0], func(text string, dry bool) (any, []client.ImportedLine, error) {
			var err error
			done, err = client.ImportPayments.Ask(c.Context(), service(), client.PaymentsImport{File: text, Dry: dry})
			return done, done.Lines, err
		}, func(dry bool) string {
			counts := map[string]int{}
			for _, l := range done.Lines {
				counts[l.Action]++
			}
			end := ""
			if dry {
				end = "; nothing was changed: this was a dry run"
			}
			return fmt.Sprintf("%d imported, %d unchanged, %s%s", counts["add"], counts["same"], amount(counts["error"], "error"), end)
		})
	}
	return c
}

func eventsSecret(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "secret",
		Short: "Manage the secrets that sign a shop's events: list, create, add, remove",
		Long: `Lists the secrets that may sign events, without showing them. --generate creates one and prints it
once; --stdin adds one that the shop created. With --grace, earlier secrets expire after that time;
otherwise they stay valid until you --remove them.`,
		Example: `  ostiarius events secret --generate
  ostiarius events secret --generate --grace 24h
  ostiarius events secret --remove 1`,
		Args: noArgs,
	}
	generate := c.Flags().Bool("generate", false, "create a secret and print it once")
	stdin := c.Flags().Bool("stdin", false, "add the secret from standard input, whsec_...")
	grace := c.Flags().String("grace", "", "how long earlier secrets stay valid, such as 24h")
	remove := c.Flags().Int64("remove", 0, "number of the one to remove")
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if *generate && *stdin || (*generate || *stdin) && *remove != 0 {
			return errUsage{errors.New("--generate, --stdin and --remove can't be used together")}
		}
		out := c.OutOrStdout()
		switch {
		case *remove != 0:
			if err := client.RemoveEventSecret.Do(c.Context(), service(), client.ByNumber{ID: *remove}); err != nil {
				return err
			}
			say(out, "removed secret %d\n", *remove)
			return nil
		case *generate || *stdin:
			n := client.NewEventSecret{}
			if *stdin {
				text, err := io.ReadAll(io.LimitReader(c.InOrStdin(), 1000))
				if err != nil {
					return err
				}
				if n.Secret = strings.TrimSpace(string(text)); n.Secret == "" {
					return errUsage{errors.New("there is no secret on standard input")}
				}
			}
			if *grace != "" {
				both, err := document.ParseDuration(*grace)
				if err != nil {
					return errUsage{fmt.Errorf("--grace %s is not a duration; use one like 24h", *grace)}
				}
				seconds := int64(both.Seconds())
				n.Grace = &seconds
			}
			made, err := client.AddEventSecret.Ask(c.Context(), service(), n)
			switch {
			case err != nil:
				return err
			case format == "json":
				return writeJSON(out, made)
			case *stdin:
				say(out, "the secret is valid now\n")
			default:
				say(out, "%s\nCopy it to the shop; it is shown only once. The shop sends its events to %s.\n", made.Secret,
					eventsAddress(c.Context(), service()))
			}
			return nil
		}
		all, err := client.ListEventSecrets.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		return writeList(c, format, all, "there is no secret; create one with --generate", "SECRET\tMADE\tBY\tUNTIL",
			func(t io.Writer, s client.EventSecret) {
				say(t, "%d\t%s\t%s\t%s\n", s.ID, when(&s.MadeAt, ""), s.MadeBy, when(s.Until, "no end"))
			})
	}
	return c
}

func eventsTargets(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "targets",
		Short: "Manage the programs that are notified of what happens",
		Long: `Notifies other programs of what happens here, signed as described in the Standard Webhooks
specification. Only hosts named in the settings (--events-to) are notified. "ostiarius messages list"
shows pending notifications.`,
		Example: `  ostiarius events targets add https://desk.example/in --kinds joined,membership-begun
  ostiarius events targets list`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	list := &cobra.Command{Use: "list", Short: "List the programs", Example: "  ostiarius events targets list", Args: noArgs}
	output := outputFlag(list, "table", "json")
	list.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		all, err := client.ListTargets.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		return writeList(c, format, all, "no program is notified", "TARGET\tADDRESS\tEVENTS\tSINCE",
			func(t io.Writer, x client.Target) {
				say(t, "%d\t%s\t%s\t%s\n", x.ID, shorten(x.URL, 60), strings.Join(x.Kinds, ", "), when(&x.MadeAt, ""))
			})
	}
	add := &cobra.Command{
		Use:     "add ADDRESS",
		Short:   "Notify a program of what happens; prints the signing secret once",
		Example: "  ostiarius events targets add https://desk.example/in --kinds joined,membership-begun,membership-ended",
		Args:    takes("ADDRESS"),
	}
	kinds := add.Flags().StringSlice("kinds", nil, "events: joined, membership-begun, membership-ended, pass-used-up, "+
		"refused-often, policy-applied, guarantee-broken")
	form := outputFlag(add, "text", "json")
	add.RunE = func(c *cobra.Command, args []string) error {
		format, err := form()
		if err != nil {
			return err
		}
		made, err := client.AddTarget.Ask(c.Context(), service(), client.NewTarget{URL: args[0], Kinds: *kinds})
		if err != nil {
			return err
		}
		if format == "json" {
			return writeJSON(c.OutOrStdout(), made)
		}
		say(c.OutOrStdout(), "%s\ntarget %d is notified of %s, signed with this secret; it is shown only once\n", made.Secret,
			made.ID, strings.Join(*kinds, ", "))
		return nil
	}
	do := func(verb, short, done string, act client.Call[client.ByNumber, client.None]) *cobra.Command {
		c := &cobra.Command{Use: verb + " TARGET", Short: short, Example: "  ostiarius events targets " + verb + " 1", Args: takes("TARGET")}
		c.RunE = func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return errUsage{fmt.Errorf("%q isn't the number of a target; `ostiarius events targets list` shows them", args[0])}
			}
			if err := act.Do(c.Context(), service(), client.ByNumber{ID: id}); err != nil {
				return err
			}
			say(c.OutOrStdout(), done, id)
			return nil
		}
		return c
	}
	c.AddCommand(list, add,
		do("remove", "Stop notifying a program", "target %d is no longer notified\n", client.RemoveTarget),
		do("test", "Send a test notification to a program",
			"a test was sent to target %d; `ostiarius messages list` shows its delivery\n", client.TestTarget))
	return c
}
