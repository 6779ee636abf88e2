package cli

import (
	"io"

	"github.com/spf13/cobra"

	"ostiarius/client"
)

func peopleResetFactors(service func() *client.Client) *cobra.Command {
	c := &cobra.Command{
		Use:   "reset-factors NAME",
		Short: "Remove the passkeys and codes of an account whose owner lost them",
		Long: `Removes all second factors of an account and ends its sessions. The owner is informed by e-mail. If the
policy has a delay (factors: { reset: 24h }), the owner can stop the removal until then.`,
		Example: "  ostiarius people reset-factors ines\n  ostiarius people reset-factors ines --undo",
		Args:    takes("NAME"),
	}
	undo := c.Flags().Bool("undo", false, "cancel a pending reset")
	c.RunE = func(c *cobra.Command, args []string) error {
		if *undo {
			if err := client.CancelFactorReset.Do(c.Context(), service(), client.ByName{Name: args[0]}); err != nil {
				return err
			}
			say(c.OutOrStdout(), "%s keeps their passkeys and codes\n", args[0])
			return nil
		}
		reset, err := client.ResetFactors.Ask(c.Context(), service(), client.ByName{Name: args[0]})
		if err != nil {
			return err
		}
		if reset.Due == nil {
			say(c.OutOrStdout(), "reset; the password alone is now enough to sign in as %s\n", args[0])
		} else {
			say(c.OutOrStdout(), "the passkeys and codes of %s will be removed at %s; until then, the owner can stop this, "+
				"and so can --undo\n", args[0], when(reset.Due, ""))
		}
		return nil
	}
	return c
}

// sayFactors says what somebody has set up beside their password, as lines of a table.
func sayFactors(t io.Writer, held client.HeldFactors) {
	for _, l := range held.Elsewhere {
		say(t, "elsewhere\t%s, as %s, since %s, used %s\n", l.Provider, l.KnownAs, when(&l.MadeAt, ""), when(l.UsedAt, "never"))
	}
	for _, k := range held.Passkeys {
		say(t, "passkey\t%s, for %s, made %s, used %s\n", k.Name, k.Host, when(&k.MadeAt, ""), when(k.UsedAt, "never"))
	}
	if held.Code != nil {
		say(t, "codes\tfrom an app, since %s\n", when(held.Code, ""))
	}
	if len(held.Passkeys) > 0 || held.Code != nil {
		say(t, "backup codes\t%d left\n", held.Kept)
	}
	if held.Browsers > 0 {
		say(t, "remembered in\t%s\n", amount(held.Browsers, "browser"))
	}
	if held.Reset != nil {
		say(t, "reset\tat %s, by %s\n", when(held.Reset, ""), held.ResetBy)
	}
	if held.Wanted != "" {
		say(t, "required\t%s, which is not set up\n",
			map[string]string{"passkey": "a passkey", "code": "codes", "two": "a second factor"}[held.Wanted])
	}
}
