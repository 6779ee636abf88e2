package cli

import (
	"io"
	"strings"

	"github.com/spf13/cobra"

	"ostiarius/client"
)

func newAccessKeys() *cobra.Command {
	c := &cobra.Command{
		Use:   "access-keys",
		Short: "Create and remove keys that let programs act as an account",
		Long: `An access key lets a program act as an account without its password. The program sends the key in the
Authorization header, as a bearer token (RFC 6750). A key can have an end, fewer roles than the account, and a
list of networks that may use it. The key is shown only once; only its hash is stored.`,
		Example: `  ostiarius access-keys add ines --name "tide report" --role keeper --until 90d --network 192.0.2.0/24
  ostiarius access-keys list --account ines`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	c.AddCommand(accessKeysAdd(service), accessKeysList(service), accessKeysRemove(service))
	return c
}

func accessKeysAdd(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "add ACCOUNT",
		Short:   "Create a key and show it once",
		Example: `  ostiarius access-keys add agnes --name "nightly backup" --role steward --until 365d -o json`,
		Args:    takes("ACCOUNT"),
	}
	name := c.Flags().String("name", "", "what the key is for")
	roles := c.Flags().StringArray("role", nil, "role of the key; repeatable; default: all roles of the account")
	none := c.Flags().Bool("no-role", false, "create a key without roles")
	networks := c.Flags().StringArray("network", nil, "network that may use it, such as 192.0.2.0/24; repeatable")
	until := c.Flags().String("until", "", "end: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, or 90d from now on")
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		n := client.NewAccessKey{Account: args[0], Name: *name, Roles: *roles, NoRoles: *none, Networks: *networks}
		if n.Until, err = end("until", *until); err != nil {
			return err
		}
		made, err := client.AddAccessKey.Ask(c.Context(), service(), n)
		if err != nil {
			return err
		}
		if format == "json" {
			return writeJSON(c.OutOrStdout(), made)
		}
		say(c.OutOrStdout(), "%s\n", made.Token)
		say(c.ErrOrStderr(), "created the key %s of %s, %s; it is not shown again\n", made.Name, made.Account, keyUntil(made.AccessKey))
		return nil
	}
	return c
}

func keyUntil(k client.AccessKey) string {
	if k.Until == nil {
		return "no end"
	}
	return "until " + ends(k.Until, "")
}

func accessKeysList(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List the keys, newest first",
		Example: "  ostiarius access-keys list -o json",
		Args:    noArgs,
	}
	account := c.Flags().String("account", "", "only those of this account")
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, _ []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		all := []client.AccessKey{}
		for {
			part, err := client.ListAccessKeys.Ask(c.Context(), service(), client.AccessKeysQuery{Account: *account, Offset: len(all), Limit: 1000})
			if err != nil {
				return err
			}
			if all = append(all, part.Keys...); len(part.Keys) == 0 || len(all) >= part.Total {
				break
			}
		}
		return writeList(c, format, all, "nobody has an access key", "KEY\tACCOUNT\tNAME\tROLES\tNETWORKS\tUNTIL\tLAST USED\tFROM",
			func(t io.Writer, k client.AccessKey) {
				roles := dash(strings.Join(k.Roles, ", "))
				if k.AllRoles {
					roles = "all"
				}
				until := ends(k.Until, "no end")
				if k.Ended {
					until += " (ended)"
				}
				say(t, "%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", k.Handle, k.Account, k.Name, roles, dash(strings.Join(k.Networks, ", ")), until,
					when(k.UsedAt, "never"), dash(k.UsedFrom))
			})
	}
	return c
}

func accessKeysRemove(service func() *client.Client) *cobra.Command {
	return &cobra.Command{
		Use:     "remove KEY",
		Short:   "Remove a key; it stops working immediately",
		Example: "  ostiarius access-keys remove 3f9c0a52b1d8e7764420",
		Args:    takes("KEY"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := client.RemoveAccessKey.Do(c.Context(), service(), client.ByHandle{Handle: args[0]}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "removed; programs that use it lose access immediately\n")
			return nil
		},
	}
}
