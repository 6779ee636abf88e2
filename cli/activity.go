package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/account"
)

func newSessions() *cobra.Command {
	c := &cobra.Command{
		Use:   "sessions",
		Short: "See and end the sessions of people who are signed in",
		Example: `  ostiarius sessions list --account ines
  ostiarius sessions end 3f9c0a52b1d8e7764420`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	list := &cobra.Command{
		Use:     "list",
		Short:   "List the sessions, the latest used first",
		Example: "  ostiarius sessions list --search firefox -o json",
		Args:    noArgs,
	}
	account := list.Flags().String("account", "", "only those of this account")
	search := list.Flags().String("search", "", "only those with this text in account, network or browser")
	limit := list.Flags().Int("limit", 100, "how many at most")
	output := outputFlag(list, "table", "json")
	list.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if *limit < 1 {
			return errUsage{errors.New("--limit is a number from 1")}
		}
		all := client.Sessions{Sessions: []client.Session{}}
		for len(all.Sessions) < *limit {
			part, err := service().Sessions(c.Context(), *account, *search, len(all.Sessions), min(1000, *limit-len(all.Sessions)))
			if err != nil {
				return err
			}
			all.Total = part.Total
			all.Sessions = append(all.Sessions, part.Sessions...)
			if len(part.Sessions) == 0 || len(all.Sessions) >= all.Total {
				break
			}
		}
		if format == "json" {
			return writeJSON(c.OutOrStdout(), all.Sessions)
		}
		if all.Total == 0 {
			fmt.Fprintln(c.OutOrStdout(), "nobody is signed in")
			return nil
		}
		t := tabwriter.NewWriter(c.OutOrStdout(), 0, 0, 2, ' ', 0)
		fmt.Fprintln(t, "SESSION\tACCOUNT\tLAST USED\tSINCE\tFROM\tBROWSER")
		for _, s := range all.Sessions {
			say(t, "%s\t%s\t%s\t%s\t%s\t%s\n", s.Handle, s.Account, when(&s.SeenAt, ""), when(&s.MadeAt, ""), dash(s.Network), dash(shorten(s.Agent, 48)))
		}
		if err := t.Flush(); err != nil {
			return err
		}
		if all.Total > len(all.Sessions) {
			say(c.OutOrStdout(), "%d of %d; --limit shows more\n", len(all.Sessions), all.Total)
		}
		return nil
	}
	end := &cobra.Command{
		Use:     "end SESSION",
		Short:   "End one session, or all of everybody; `people end-sessions NAME` ends those of an account",
		Example: "  ostiarius sessions end 3f9c0a52b1d8e7764420\n  ostiarius sessions end --all",
	}
	everybody := end.Flags().Bool("all", false, "sign everybody out")
	end.Args = func(c *cobra.Command, args []string) error {
		if *everybody {
			return noArgs(c, args)
		}
		return takes("SESSION")(c, args)
	}
	end.RunE = func(c *cobra.Command, args []string) error {
		if *everybody {
			n, err := service().EndAllSessions(c.Context())
			if err == nil {
				say(c.OutOrStdout(), "ended %s\n", amount(n, "session"))
			}
			return err
		}
		if err := service().EndSession(c.Context(), args[0]); err != nil {
			return err
		}
		fmt.Fprintln(c.OutOrStdout(), "ended; whoever had it is asked to sign in again")
		return nil
	}
	c.AddCommand(list, end)
	return c
}

// shorten cuts a text that somebody else wrote, and shows control characters as what they
// are.
func shorten(s string, n int) string {
	s = strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f {
			return '\ufffd'
		}
		return r
	}, s)
	if runes := []rune(s); len(runes) > n {
		return string(runes[:n-1]) + "…"
	}
	return s
}

func newActivity() *cobra.Command {
	c := &cobra.Command{
		Use:   "activity",
		Short: "Show what happened at the doors, and who changed what",
		Long: `Shows the records of sign-ins, failures, sign-outs, changes, grants and refusals, the
newest last. Admitted requests are counted rather than recorded.`,
		Example: `  ostiarius activity --follow
  ostiarius activity --reference K7QX-3MPA
  ostiarius activity --kind "sign-in failed" --since 24h -o json`,
		Args: noArgs,
	}
	var q client.EventQuery
	c.Flags().StringVar(&q.Kind, "kind", "", "only this kind, or all that begin so: \"sign-in\", \"sign-in failed\", refused, \"role\"")
	c.Flags().StringVar(&q.Account, "account", "", "only what is about, or by, this account")
	c.Flags().StringVar(&q.Network, "network", "", "only from addresses that begin so")
	c.Flags().StringVar(&q.Door, "door", "", "only at this door, as it is written in the policy")
	c.Flags().StringVar(&q.Reference, "reference", "", "only what has this reference number")
	c.Flags().StringVar(&q.Search, "search", "", "only what has this text anywhere")
	c.Flags().IntVar(&q.Limit, "limit", 100, "how many at most, up to 1000")
	since := c.Flags().String("since", "", "from when on: 24h, 2026-11-23 or 2026-11-23T18:00:00Z")
	follow := c.Flags().Bool("follow", false, "go on with what happens, until interrupted")
	service := dataFlag(c)
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		if *since != "" {
			if d, err := time.ParseDuration(*since); err == nil && d > 0 {
				q.Since = time.Now().Add(-d)
			} else if t, err := account.ParseTime(*since, time.Local, false); err == nil {
				q.Since = t
			} else {
				return errUsage{fmt.Errorf("--since %s is no time; write 24h, 2026-11-23 or 2026-11-23T18:00:00Z", *since)}
			}
		}
		events, err := service().Activity(c.Context(), q)
		if err != nil {
			return err
		}
		if format == "json" && !*follow {
			return writeJSON(c.OutOrStdout(), events)
		}
		write := func(events []client.Event) error {
			for i := len(events) - 1; i >= 0; i-- {
				if format == "json" {
					line, err := json.Marshal(events[i])
					if err != nil {
						return err
					}
					say(c.OutOrStdout(), "%s\n", line)
					continue
				}
				writeEvent(c.OutOrStdout(), events[i])
			}
			return nil
		}
		if err := write(events); err != nil {
			return err
		}
		if !*follow {
			if len(events) == 0 {
				fmt.Fprintln(c.OutOrStdout(), "nothing of that kind is recorded")
			}
			return nil
		}
		q.After = 1
		if len(events) > 0 {
			q.After = events[0].ID
		}
		ticker := time.NewTicker(time.Second)
		defer ticker.Stop()
		for {
			select {
			case <-c.Context().Done():
				return nil
			case <-ticker.C:
			}
			events, err := service().Activity(c.Context(), q)
			if err != nil {
				if c.Context().Err() != nil {
					return nil
				}
				return err
			}
			if len(events) > 0 {
				q.After = events[0].ID
			}
			if err := write(events); err != nil {
				return err
			}
		}
	}
	return c
}

// writeEvent writes an event on one line.
func writeEvent(w io.Writer, e client.Event) {
	line := fmt.Sprintf("%s  %-18s", e.At.Local().Format("2006-01-02 15:04:05"), e.Kind)
	add := func(format, value string) {
		if value != "" {
			line += "  " + fmt.Sprintf(format, shorten(value, 120))
		}
	}
	add("%s", e.Account)
	if e.Actor != e.Account {
		add("by %s", e.Actor)
	}
	add("from %s", e.Network)
	add("%s", e.Place)
	add("at %s", e.Door)
	add("%s", e.Detail)
	add("[%s]", e.Reference)
	say(w, "%s\n", line)
}
