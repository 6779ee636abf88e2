package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"ostiarius/client"
	"ostiarius/core/message"
	"ostiarius/core/telling"
	"ostiarius/demo"
	"ostiarius/service"
	"ostiarius/service/keep/mail"
	"ostiarius/service/rooms"
)

func newDemo() *cobra.Command {
	c := &cobra.Command{
		Use:   "demo",
		Short: "Guard the site of a lighthouse, to try things out",
		Long: `Unpacks the site of a small trust that runs a lighthouse, with its policy and accounts,
and guards it until interrupted. Your changes are kept; remove the data directory to start over.`,
		Example: "  ostiarius demo\n  ostiarius demo --listen 127.0.0.1:0 --data /tmp/lighthouse",
		Args:    noArgs,
	}
	settings := service.Settings{
		Version: Version, MailNotices: map[message.Kind]bool{message.PasswordChanged: true, message.AddressChanged: true},
	}
	c.Flags().StringVar(&settings.Listen, "listen", "localhost:8460", "address to listen on, on loopback; port 0 picks a free one")
	directory := c.Flags().String("data", "./demo-data", "directory for the site, its policy and records")
	c.RunE = func(c *cobra.Command, _ []string) error {
		var err error
		if settings.Policy, err = demo.Unpack(*directory); err != nil {
			return err
		}
		// The records stand apart from the site, which would otherwise give them away.
		settings.Data, settings.Socket = filepath.Join(*directory, "records"), filepath.Join(*directory, client.SocketName)
		settings.Telling = telling.Rules{Hosts: []string{"127.0.0.1", "localhost"}, Private: true}
		stopLog, err := demo.StartLog(*directory)
		if err != nil {
			return err
		}
		defer stopLog()
		stopDesk, err := demo.StartDesk(*directory)
		if err != nil {
			return err
		}
		defer stopDesk()
		box, err := demo.StartMailbox(*directory)
		if err != nil {
			return err
		}
		defer box.Stop()
		if settings.Mail, err = mail.ReadServer("smtp://"+box.SMTP, "Marram Point Lighthouse Trust <door@marram.example>", ""); err != nil {
			return err
		}
		shop, err := demo.StartShop(*directory)
		if err != nil {
			return err
		}
		defer shop.Stop()
		harbour, err := demo.StartHarbour()
		if err != nil {
			return err
		}
		defer harbour.Stop()
		settings.Elsewhere = rooms.Elsewhere{Secrets: map[string]string{"harbour": harbour.Secret}, At: map[string]string{"harbour": harbour.URL}}
		return run(c, settings, func(s *service.Service) error {
			if err := shop.Tell(s.URL()+"/door/events",
				func() (string, error) { return s.Rooms().Events.AddSecret(context.Background(), "demo", "", -1) }); err != nil {
				return err
			}
			if err := demo.Enrol(context.Background(), s.Rooms().People, s.Rooms().Keyrings, s.Rooms().Shared, s.Rooms().Passes,
				s.Rooms().Events, settings.Data); err != nil {
				return err
			}
			out := c.OutOrStdout()
			say(out, "Marram Point Lighthouse Trust, a demo\n\n")
			t := tabwriter.NewWriter(out, 2, 0, 2, ' ', 0)
			say(t, "  NAME\tPASSWORD\tROLE\t\n")
			for _, p := range demo.People {
				say(t, "  %s\t%s\t%s\t%s\n", p.Name, p.Password, strings.Join(p.Roles, ", "), p.About)
			}
			say(t, "  %s\t%s\t\tin the keyring outer: the gate before the office\n", demo.GateName, demo.GatePassword)
			say(t, "  \t%s\t\tthe shared password of the press kit\n", demo.PressPassword)
			t.Flush()
			policy := settings.Policy
			if absolute, err := filepath.Abs(policy); err == nil {
				policy = absolute
			}
			say(out, `
Three things to try:
  1. Open %[1]s/friends/ and sign in as walt, then as sunniva.
  2. See why: sign in as agnes and open %[1]s/door/console/, or run
     %[4]s explain GET /friends/ --as role:volunteer --data %[3]s
  3. Change who may go where: edit %[2]s
     and reload the page three seconds later.

All e-mail arrives at %[5]s
Behind the counter of the shop: %[6]s
Harbour accounts, to sign in with: %[7]s/

`, s.URL(), policy, *directory, os.Args[0], box.URL, shop.URL, harbour.URL)
			return nil
		})
	}
	return c
}
