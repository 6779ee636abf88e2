package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/document"
)

func newKeyrings() *cobra.Command {
	c := &cobra.Command{
		Use:   "keyrings",
		Short: "Manage the HTTP Basic credentials that belong to a place",
		Long: `Manages the names and passwords of keyrings. The keyrings themselves are declared in the
policy.`,
		Example: `  ostiarius keyrings add outer smith --generate --data ./data
  ostiarius keyrings rotate outer smith --generate --grace 24h
  ostiarius keyrings import outer .htpasswd --dry-run`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	service := dataFlag(c)
	c.AddCommand(keyringsList(service), keyringsAdd(service), keyringsRotate(service), keyringsRemove(service),
		keyringsEdit(service), keyringsSwitch(service, "disable", "Disable a name", true),
		keyringsSwitch(service, "enable", "Enable a name again", false),
		keyringsImport(service), keyringsExport(service))
	return c
}

func keyringsList(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "list [NAME]",
		Short:   "List the keyrings, or the names in one",
		Example: "  ostiarius keyrings list outer",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return takes("NAME")(c, args)
			}
			return nil
		},
	}
	output := outputFlag(c, "table", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		all, err := client.ListKeyrings.Ask(c.Context(), service(), client.None{})
		if err != nil {
			return err
		}
		if len(args) == 1 {
			all = slices.DeleteFunc(all, func(k client.Keyring) bool { return k.Name != args[0] })
			if len(all) == 0 {
				return fmt.Errorf("there is no keyring %q; `ostiarius keyrings list` shows all", args[0])
			}
		}
		return writeList(c, format, all, "the policy has no keyrings; declare them under keyrings",
			"KEYRING\tNAME\tSTATE\tLAST USED\tUNTIL\tHASH\tNOTE", func(t io.Writer, k client.Keyring) {
				if len(k.Entries) == 0 {
					say(t, "%s\t(empty)\t\t\t\t\trealm %q\n", k.Name, k.Realm)
				}
				for _, e := range k.Entries {
					kind := e.Kind
					if e.Weak {
						kind += ", weak"
					}
					say(t, "%s\t%s\t%s\t%s\t%s\t%s\t%s\n", k.Name, e.Name, entryState(k, e), when(e.UsedAt, "never"), ends(e.Until, "-"), kind,
						dash(e.Note))
				}
			})
	}
	return c
}

func entryState(k client.Keyring, e client.Entry) string {
	switch {
	case k.Gone:
		return "keyring not in the policy"
	case e.Disabled:
		return "disabled"
	case e.Until != nil && e.Until.Before(time.Now()):
		return "ended"
	case e.OldUntil != nil:
		return "two passwords until " + when(e.OldUntil, "")
	}
	return "enabled"
}

func keyringsAdd(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "add KEYRING NAME",
		Short: "Add a name with a password to a keyring",
		Example: `  ostiarius keyrings add outer smith --generate --note "mends the railing" --until 2027-03-31
  echo "$PASSWORD" | ostiarius keyrings add outer smith --password-stdin`,
		Args: takes("KEYRING", "NAME"),
	}
	note := c.Flags().String("note", "", "purpose of the name")
	until := c.Flags().String("until", "", "end: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, or 3d from now on")
	password := passwordFlag(c)
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		n := client.NewEntry{Keyring: args[0], Name: args[1], Note: *note}
		var shown string
		if n.Until, err = end("until", *until); err != nil {
			return err
		}
		if n.Password, shown, err = password(c); err != nil {
			return err
		}
		if _, err := client.AddEntry.Ask(c.Context(), service(), n); err != nil {
			return err
		}
		return once(c, format, args[1], n.Password, shown, fmt.Sprintf("added %s to the keyring %s\n", args[1], args[0]))
	}
	return c
}

func keyringsRotate(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:     "rotate KEYRING NAME",
		Short:   "Change a password; with --grace, the previous one works for some time",
		Example: "  ostiarius keyrings rotate outer smith --generate --grace 24h",
		Args:    takes("KEYRING", "NAME"),
	}
	grace := c.Flags().String("grace", "0s", "how long the previous password also works, such as 24h or 7d")
	password := passwordFlag(c)
	output := outputFlag(c, "text", "json")
	c.RunE = func(c *cobra.Command, args []string) error {
		format, err := output()
		if err != nil {
			return err
		}
		both, err := document.ParseDuration(*grace)
		if err != nil {
			return errUsage{fmt.Errorf("--grace %s is not a duration; use one like 24h", *grace)}
		}
		secret, shown, err := password(c)
		if err != nil {
			return err
		}
		if err := client.RotateEntry.Do(c.Context(), service(),
			client.NewEntryPassword{Keyring: args[0], Entry: args[1], Password: secret, Grace: int64(both / time.Second)}); err != nil {
			return err
		}
		old := "the previous one no longer works"
		if both > 0 {
			old = "the previous one works for another " + document.FormatDuration(both)
		}
		return once(c, format, args[1], secret, shown, fmt.Sprintf("changed the password of %s in the keyring %s; %s\n", args[1], args[0], old))
	}
	return c
}

func keyringsEdit(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "edit KEYRING NAME",
		Short: "Change the note or end of a name in a keyring",
		Long:  "Changes the note or the end of a name. The password stays the same. Use --until never to remove the end.",
		Example: `  ostiarius keyrings edit outer smith --until 2027-06-30
  ostiarius keyrings edit outer smith --note "mends the railing and the steps" --until never`,
		Args: takes("KEYRING", "NAME"),
	}
	note := c.Flags().String("note", "", "purpose of the name; empty to remove it")
	until := c.Flags().String("until", "", "end: 2027-03-31 (that day included), 2027-03-31T18:00:00Z, 3d from now on, or never")
	c.RunE = func(c *cobra.Command, args []string) error {
		var to client.EntryEdit
		if c.Flags().Changed("note") {
			to.Note = note
		}
		if to.Endless = *until == "never"; !to.Endless {
			var err error
			if to.Until, err = end("until", *until); err != nil {
				return err
			}
		}
		if to == (client.EntryEdit{}) {
			return errUsage{errors.New("say what to change: --note or --until")}
		}
		to.Keyring, to.Entry = args[0], args[1]
		if err := client.EditEntry.Do(c.Context(), service(), to); err != nil {
			return err
		}
		say(c.OutOrStdout(), "changed %s in the keyring %s\n", args[1], args[0])
		return nil
	}
	return c
}

func keyringsRemove(service func() *client.Client) *cobra.Command {
	return &cobra.Command{
		Use:     "remove KEYRING NAME",
		Short:   "Remove a name from a keyring",
		Example: "  ostiarius keyrings remove outer smith",
		Args:    takes("KEYRING", "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := client.RemoveEntry.Do(c.Context(), service(), client.EntryOf{Keyring: args[0], Entry: args[1]}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "removed %s from the keyring %s\n", args[1], args[0])
			return nil
		},
	}
}

func keyringsSwitch(service func() *client.Client, verb, short string, disabled bool) *cobra.Command {
	return &cobra.Command{
		Use:     verb + " KEYRING NAME",
		Short:   short,
		Example: "  ostiarius keyrings " + verb + " outer smith",
		Args:    takes("KEYRING", "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := client.DisableEntry.Do(c.Context(), service(),
				client.DisabledEntry{Keyring: args[0], Entry: args[1], Disabled: disabled}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "%sd %s in the keyring %s\n", verb, args[1], args[0])
			return nil
		},
	}
}

func keyringsImport(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "import KEYRING FILE",
		Short: "Import an htpasswd file",
		Long: `Imports the names and hashes of an htpasswd file: bcrypt, SHA-256-crypt, SHA-512-crypt, apr1 and
{SHA}. Weak hashes are reported, and replaced by argon2id on first use. Lines in plain text or DES are
rejected with the reason; the others are imported. - is standard input. Exit code 1 if a line was
rejected.`,
		Example: "  ostiarius keyrings import outer .htpasswd --dry-run",
		Args:    takes("KEYRING", "FILE"),
	}
	bringIn := importFlags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		return bringIn(c, args[1], func(text string, dry bool) (any, []client.ImportedLine, error) {
			lines, err := client.ImportEntries.Ask(c.Context(), service(), client.EntriesImport{Keyring: args[0], File: text, Dry: dry})
			return lines, lines, err
		}, func(dry bool) string {
			if dry {
				return "nothing was changed: this was a dry run"
			}
			return ""
		})
	}
	return c
}

func keyringsExport(service func() *client.Client) *cobra.Command {
	return &cobra.Command{
		Use:   "export KEYRING",
		Short: "Write a keyring as an htpasswd file",
		Long: "Writes the names whose hashes fit into an htpasswd file. The others are reported on\nstandard error, with " +
			"the reason.",
		Example: "  ostiarius keyrings export outer > .htpasswd",
		Args:    takes("KEYRING"),
		RunE: func(c *cobra.Command, args []string) error {
			e, err := client.ExportEntries.Ask(c.Context(), service(), client.RingNamed{Keyring: args[0]})
			if err != nil {
				return err
			}
			for _, l := range e.Left {
				say(c.ErrOrStderr(), "ostiarius: skipped %s: %s\n", l.Name, l.Detail)
			}
			if _, err := io.WriteString(c.OutOrStdout(), e.File); err != nil {
				return err
			}
			if e.File == "" && len(e.Left) > 0 {
				return errors.New("no name can be written to an htpasswd file")
			}
			return nil
		},
	}
}
