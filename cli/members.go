package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/core/table"
)

func peopleMembers(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "members",
		Short: "List who has which role, since when, until when, and from which order",
		Long: `Lists who has which role, newest first. With --ending, lists the roles that end within a time,
soonest first.`,
		Example: `  ostiarius people members --role supporter
  ostiarius people members --ending 30d -o csv > ending.csv`,
		Args: noArgs,
	}
	role := c.Flags().String("role", "", "only with this role")
	ending := c.Flags().String("ending", "", "only roles that end within this time, such as 30d")
	past := c.Flags().Bool("past", false, "only roles that have ended")
	search := c.Flags().String("search", "", "only names or addresses that start with this")
	limit := c.Flags().Int("limit", 100_000, "maximum number")
	output := outputFlag(c, "table", "csv", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		q := client.MemberQuery{Role: *role, Search: *search, Past: *past}
		if *ending != "" {
			if q.Ending, err = document.ParseDuration(*ending); err != nil || q.Ending <= 0 {
				return errUsage{fmt.Errorf("--ending %s is not a duration; use one like 30d", *ending)}
			}
			q.Sort = "until"
		}
		if *limit < 1 {
			return errUsage{errors.New("--limit is at least 1")}
		}
		all := []client.Member{}
		for len(all) < *limit {
			q.Offset, q.Limit = len(all), min(1000, *limit-len(all))
			part, err := client.ListMembers.Ask(c.Context(), service(), q)
			if err != nil {
				return err
			}
			all = append(all, part.Members...)
			if len(part.Members) < q.Limit {
				break
			}
		}
		if format == "csv" {
			w := csv.NewWriter(c.OutOrStdout())
			w.Write([]string{"name", "email", "role", "since", "until", "by", "order", "joined"})
			for _, m := range all {
				until := ""
				if m.Until != nil {
					until = m.Until.UTC().Format(time.RFC3339)
				}
				w.Write([]string{table.Guard(m.Account), table.Guard(m.Email), m.Role, m.Since.UTC().Format(time.RFC3339), until,
					table.Guard(m.By), table.Guard(m.Order), table.Guard(m.Joined)})
			}
			w.Flush()
			return w.Error()
		}
		return writeList(c, format, all, "no matching members", "NAME\tE-MAIL\tROLE\tSINCE\tUNTIL\tBY\tORDER\tJOINED",
			func(t io.Writer, m client.Member) {
				say(t, "%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", m.Account, dash(shorten(m.Email, 40)), m.Role, when(&m.Since, ""),
					ends(m.Until, "no end"), m.By, dash(shorten(m.Order, 24)), m.Joined)
			})
	}
	return c
}
