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
		Long: `Saves the records of a service, which may go on running: people, roles, sessions, keyrings,
passes, orders, messages, activity, and each version of the policy. The file is new, only
this user can read it, and it is read back before it gets its name. Whoever has it has
the hashes of all passwords and the secrets with which events are signed.

Not in it are the site, certificates, and settings.`,
		Example: "  ostiarius backup /var/backups/lamp-$(date +%F).tar.gz --data ./data",
		Args:    takes("FILE"),
	}
	data := c.Flags().String("data", defaultData, "data directory of the service")
	c.RunE = func(c *cobra.Command, args []string) error {
		ctx, stop := signal.NotifyContext(c.Context(), syscall.SIGINT, syscall.SIGTERM)
		defer stop()
		m, err := backup.Make(ctx, *data, args[0], Version)
		if err != nil {
			return fmt.Errorf("no backup was made: %w", err)
		}
		say(c.OutOrStdout(), "saved in %s, and read back:\n", args[0])
		writeManifest(c.OutOrStdout(), m)
		return nil
	}
	return c
}

func newRestore() *cobra.Command {
	c := &cobra.Command{
		Use:   "restore FILE",
		Short: "Bring the records of a backup into an empty data directory",
		Long: `Checks a backup and brings its records into a data directory that is empty or not there yet.

What has ended since the backup was made is not known from it. So everybody signs in
again, links for passwords do not hold any more, and messages that waited are not sent by
themselves. With --goes-on, all of that goes on: when a service moves here that has
stopped elsewhere.

The policy file is not written: ostiarius show prints the version that was in force.`,
		Example: "  ostiarius restore lamp-2026-11-26.tar.gz --data ./data --dry-run\n  ostiarius restore lamp-2026-11-26.tar.gz --data ./data",
		Args:    takes("FILE"),
	}
	data := c.Flags().String("data", defaultData, "data directory, empty or not there yet")
	var o backup.Options
	c.Flags().BoolVar(&o.GoesOn, "goes-on", false, "the service goes on here, and does not run elsewhere: sessions hold, messages are sent")
	c.Flags().BoolVar(&o.Dry, "dry-run", false, "only check the backup, and say what is in it")
	c.RunE = func(c *cobra.Command, args []string) error {
		ctx, stop := signal.NotifyContext(c.Context(), syscall.SIGINT, syscall.SIGTERM)
		defer stop()
		m, err := backup.Restore(ctx, args[0], *data, o)
		if err != nil {
			return fmt.Errorf("nothing was restored: %w", err)
		}
		if o.Dry {
			say(c.OutOrStdout(), "%s is whole; nothing was restored\n", args[0])
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
