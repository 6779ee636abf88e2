package cli

import (
	"fmt"
	"io"
	"maps"
	"os/signal"
	"slices"
	"syscall"

	"github.com/spf13/cobra"

	"ostiarius/service/keep/backup"
)

func newBackup() *cobra.Command {
	c := &cobra.Command{
		Use:   "backup FILE",
		Short: "Save all records in one file",
		Long: `Saves the records of a service, which can keep running: people, roles, sessions, keyrings,
passes, orders, messages, activity, and each version of the policy. The file must not exist yet.
Only you can read it, and it is verified before it gets its name. Protect it: it contains the
hashes of all passwords and the secrets that sign events.

The site, certificates and settings are not included.`,
		Example: "  ostiarius backup /var/backups/lamp-$(date +%F).tar.gz --data ./data",
		Args:    takes("FILE"),
	}
	data := c.Flags().String("data", defaultData, "data directory of the service")
	c.RunE = func(c *cobra.Command, args []string) error {
		ctx, stop := signal.NotifyContext(c.Context(), syscall.SIGINT, syscall.SIGTERM)
		defer stop()
		m, err := backup.Make(ctx, *data, args[0], Version)
		if err != nil {
			return fmt.Errorf("the backup failed: %w", err)
		}
		say(c.OutOrStdout(), "saved in %s and verified:\n", args[0])
		writeManifest(c.OutOrStdout(), m)
		return nil
	}
	return c
}

func newRestore() *cobra.Command {
	c := &cobra.Command{
		Use:   "restore FILE",
		Short: "Restore a backup into an empty data directory",
		Long: `Checks a backup and restores its records into a data directory that is empty or doesn't exist yet.

A backup doesn't know what ended after it was made. So everyone has to sign in again, links for
passwords are no longer valid, and pending messages aren't sent automatically. Use --goes-on to
keep all of that when a service moves here that no longer runs elsewhere.

The policy file isn't written: ostiarius show prints the version that was active.`,
		Example: "  ostiarius restore lamp-2026-11-26.tar.gz --data ./data --dry-run\n  ostiarius restore lamp-2026-11-26.tar.gz --data ./data",
		Args:    takes("FILE"),
	}
	data := c.Flags().String("data", defaultData, "data directory, empty or new")
	var o backup.Options
	c.Flags().BoolVar(&o.GoesOn, "goes-on", false, "the service moves here and no longer runs elsewhere: keep sessions and send messages")
	c.Flags().BoolVar(&o.Dry, "dry-run", false, "only check the backup and show what it contains")
	c.RunE = func(c *cobra.Command, args []string) error {
		ctx, stop := signal.NotifyContext(c.Context(), syscall.SIGINT, syscall.SIGTERM)
		defer stop()
		m, err := backup.Restore(ctx, args[0], *data, o)
		if err != nil {
			return fmt.Errorf("nothing was restored: %w", err)
		}
		if o.Dry {
			say(c.OutOrStdout(), "%s is complete; nothing was restored\n", args[0])
		} else {
			say(c.OutOrStdout(), "restored into %s\n", *data)
		}
		writeManifest(c.OutOrStdout(), m)
		return nil
	}
	return c
}

func writeManifest(w io.Writer, m backup.Manifest) {
	say(w, "made %s by version %s, %.1f MB\n", m.Made.Local().Format("2006-01-02 15:04:05"), m.Version, float64(m.Size)/1e6)
	for _, word := range slices.Sorted(maps.Keys(m.Counts)) {
		say(w, "%8d  %s\n", m.Counts[word], word)
	}
}
