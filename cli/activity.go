package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/account"
)

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
		Long: `Shows sign-ins, failures, sign-outs, changes, grants and refusals, newest last. Allowed requests
are counted, not listed.`,
		Example: `  ostiarius activity --follow
  ostiarius activity --reference K7QX-3MPA
  ostiarius activity --kind "sign-in failed" --since 24h -o json`,
		Args: noArgs,
	}
	var q client.ActivityQuery
	c.Flags().StringVar(&q.Kind, "kind", "", "only this kind, or all kinds that start with it: \"sign-in\", \"sign-in "+
		"failed\", refused, \"role\"")
	c.Flags().StringVar(&q.Account, "account", "", "only entries about or by this account")
	c.Flags().StringVar(&q.Network, "network", "", "only from addresses that start with this")
	c.Flags().StringVar(&q.Door, "door", "", "only at this door, as written in the policy")
	c.Flags().StringVar(&q.Reference, "reference", "", "only the entry with this reference number")
	c.Flags().StringVar(&q.Search, "search", "", "only entries that contain this text")
	c.Flags().IntVar(&q.Limit, "limit", 100, "maximum number, up to 1000")
	since := c.Flags().String("since", "", "start: 24h ago, 2026-11-23 or 2026-11-23T18:00:00Z")
	follow := c.Flags().Bool("follow", false, "keep showing new entries until interrupted")
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
				return errUsage{fmt.Errorf("--since %s is not a time; use 24h, 2026-11-23 or 2026-11-23T18:00:00Z", *since)}
			}
		}
		events, err := service().Activity(c.Context(), q)
		if err != nil {
			return err
		}
		if format == "json" && !*follow {
			return writeJSON(c.OutOrStdout(), events)
		}
		write := func(events []client.ActivityRecord) error {
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
				fmt.Fprintln(c.OutOrStdout(), "no matching entries")
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
func writeEvent(w io.Writer, e client.ActivityRecord) {
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
