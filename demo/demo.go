// Package demo is the site of a small trust that runs a lighthouse, with its policy and
// the accounts of some of its people, to try Ostiarius with.
package demo

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ostiarius/service/base/mistake"
	"ostiarius/service/held/keyrings"
	"ostiarius/service/held/passes"
	"ostiarius/service/held/shared"
	"ostiarius/service/shop/events"
	"ostiarius/service/who/people"
)

//go:embed doors.yaml site all:desk/dist desk-routes.json
var files embed.FS

// A Person is an account of the demo, with an address in its mailbox. The passwords are no secrets: the demo listens on
// loopback only.
type Person struct {
	Name, Password string
	Roles          []string
	About          string
}

// People are the accounts of the demo.
var People = []Person{
	{"agnes", "amber-lantern-shelf", []string{"steward"}, "runs Ostiarius: sees the console"},
	{"tobias", "quiet-harbour-ledger", []string{"trustee"}, "a trustee: sees the office, and all that keepers see"},
	{"ines", "seven-brass-prisms", []string{"keeper"}, "a keeper: sees the log and the rota"},
	{"walt", "paint-and-lentil-soup", []string{"volunteer"}, "a volunteer: sees the rota"},
	{"sunniva", "fog-bell-at-night", []string{"supporter"}, "a supporter: sees the recordings"},
	{"tide-gauge", "refuge-hut-ladder", []string{"device"}, "an instrument: sees the sensor feed"},
}

// Email is the address of a person; "" for what is none.
func (p Person) Email() string {
	if slices.Contains(p.Roles, "device") {
		return ""
	}
	return p.Name + "@marram.example"
}

// The credentials in the keyring outer.
const GateName, GatePassword = "gate", "creaky-third-step"

// Unpack writes the policy and the site into a directory, unless they are there already:
// what somebody has changed stays. It returns the path of the policy file.
func Unpack(directory string) (string, error) {
	policy := filepath.Join(directory, "doors.yaml")
	if _, err := os.Stat(policy); err == nil {
		return policy, nil
	}
	err := fs.WalkDir(files, ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		// What is built of the desk stands beside the policy as its directory.
		to := filepath.Join(directory, filepath.FromSlash(strings.Replace(name, "desk/dist", "desk", 1)))
		if name == "desk/dist/.gitkeep" {
			return nil
		}
		if entry.IsDir() {
			return os.MkdirAll(to, 0o700)
		}
		text, err := files.ReadFile(name)
		if err != nil || name == "doors.yaml" {
			return err
		}
		return os.WriteFile(to, text, 0o600)
	})
	if err != nil {
		return "", fmt.Errorf("the demo cannot be unpacked: %w", err)
	}
	for name := range sounds {
		if err := os.WriteFile(filepath.Join(directory, "site", "recordings", name), wav(name), 0o600); err != nil {
			return "", fmt.Errorf("the demo cannot be unpacked: %w", err)
		}
	}
	// The policy comes last: where it stands, the rest is complete.
	text, err := files.ReadFile("doors.yaml")
	if err != nil {
		return "", err
	}
	return policy, os.WriteFile(policy, text, 0o600)
}

// Enrol adds the demo's accounts to a service whose data directory this is, once: what
// somebody changes or removes afterwards stays so.
func Enrol(ctx context.Context, register *people.Register, rings *keyrings.Keyrings, passwords *shared.Passwords, p *passes.Passes,
	books *events.Inbox, directory string) error {
	done := filepath.Join(directory, "enrolled")
	if _, err := os.Stat(done); err == nil {
		return nil
	}
	for _, p := range People {
		roles := p.Roles
		if p.Name == member {
			roles = nil
		}
		_, err := register.Add(ctx, "demo", people.NewAccount{Name: p.Name, Email: p.Email(), Password: p.Password, Roles: roles})
		var known *mistake.Error
		if err != nil && !(errors.As(err, &known) && known.Kind == "taken") {
			return fmt.Errorf("the demo account %s: %w", p.Name, err)
		}
	}
	_, err := rings.Add(ctx, "demo", "outer",
		keyrings.NewEntry{Name: GateName, Password: GatePassword, Note: "for everybody who works in the office"})
	var known *mistake.Error
	if err != nil && !(errors.As(err, &known) && known.Kind != "invalid") { // somebody may have removed the keyring
		return fmt.Errorf("the demo's keyring: %w", err)
	}
	if err := handOut(ctx, passwords, p); err != nil {
		return err
	}
	if err := sell(ctx, register, books); err != nil {
		return err
	}
	return os.WriteFile(done, nil, 0o600)
}
