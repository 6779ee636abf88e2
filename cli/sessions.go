package cli

import (
	"errors"
	"fmt"
	"io"
	"ostiarius/client"

	"github.com/spf13/cobra"
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
		Short:   "List the sessions, most recently used first",
		Example: "  ostiarius sessions list --search firefox -o json",
		Args:    noArgs,
	}
	account := list.Flags().String("account", "", "only of this account")
	search := list.Flags().String("search", "", "only with this text in account, network or browser")
	limit := list.Flags().Int("limit", 100, "maximum number")
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
			part, err := client.ListSessions.Ask(c.Context(), service(),
				client.SessionsQuery{Account: *account, Search: *search, Offset: len(all.Sessions), Limit: min(1000, *limit-len(all.Sessions))})
			if err != nil {
				return err
			}
			all.Total = part.Total
			all.Sessions = append(all.Sessions, part.Sessions...)
			if len(part.Sessions) == 0 || len(all.Sessions) >= all.Total {
				break
			}
		}
		err = writeList(c, format, all.Sessions, "nobody is signed in", "SESSION\tACCOUNT\tLAST USED\tSINCE\tPROVEN WITH\tFROM\tBROWSER",
			func(t io.Writer, s client.Session) {
				say(t, "%s\t%s\t%s\t%s\t%s\t%s\t%s\n", s.Handle, s.Account, when(&s.SeenAt, ""), when(&s.MadeAt, ""), s.How, dash(s.Network),
					dash(shorten(s.Agent, 48)))
			})
		if err == nil && format != "json" && all.Total > len(all.Sessions) {
			say(c.OutOrStdout(), "%d of %d; --limit shows more\n", len(all.Sessions), all.Total)
		}
		return err
	}
	end := &cobra.Command{
		Use:     "end SESSION",
		Short:   "End one session, or all; `people end-sessions NAME` ends those of an account",
		Example: "  ostiarius sessions end 3f9c0a52b1d8e7764420\n  ostiarius sessions end --all",
	}
	everybody := end.Flags().Bool("all", false, "sign everyone out")
	end.Args = func(c *cobra.Command, args []string) error {
		if *everybody {
			return noArgs(c, args)
		}
		return takes("SESSION")(c, args)
	}
	end.RunE = func(c *cobra.Command, args []string) error {
		if *everybody {
			done, err := client.EndAllSessions.Ask(c.Context(), service(), client.None{})
			if err == nil {
				say(c.OutOrStdout(), "ended %s\n", amount(int(done.Ended), "session"))
			}
			return err
		}
		if err := client.EndSession.Do(c.Context(), service(), client.ByHandle{Handle: args[0]}); err != nil {
			return err
		}
		fmt.Fprintln(c.OutOrStdout(), "ended; that browser has to sign in again")
		return nil
	}
	c.AddCommand(list, end)
	return c
}
