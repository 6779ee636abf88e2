package store

import (
	"context"
	"fmt"
	"time"
)

// PlaceOfAccount is the name of an account for what is known of places.
func PlaceOfAccount(id int64) string { return fmt.Sprintf("account %d", id) }

// PlaceOfShared is that of a shared password.
func PlaceOfShared(name string) string { return "shared password " + name }

// PlaceOfEntry is that of a name in a keyring.
func PlaceOfEntry(ring, name string) string { return "entry " + ring + " " + name }

// KnowsPlace reports whether what is named was right at a network since a time.
func (s *Store) KnowsPlace(ctx context.Context, what, network string, since time.Time) (bool, error) {
	var n int
	err := s.get(ctx, &n, `SELECT COUNT(*) FROM known_places WHERE what = ? AND network = ? AND at > ?`, what, network, millis(since))
	return n > 0, err
}

// PlacesOf returns the networks at which what is named was right.
func (s *Store) PlacesOf(ctx context.Context, what string) (networks []string, err error) {
	return networks, s.all(ctx, &networks, `SELECT network FROM known_places WHERE what = ? ORDER BY network`, what)
}

// SetPlace notes that what is named was right at a network.
func (s *Store) SetPlace(ctx context.Context, what, network string, at time.Time) error {
	_, err := s.exec(ctx, `INSERT INTO known_places (what, network, at) VALUES (?, ?, ?) ON CONFLICT (what, network) DO UPDATE SET at = `+
		`excluded.at`, what, network, millis(at))
	return err
}

// forgetPlaces removes what is known of somebody, or something, that is removed.
func forgetPlaces(ctx context.Context, tx speaker, what string) error {
	_, err := tx.exec(ctx, `DELETE FROM known_places WHERE what = ?`, what)
	return err
}

// SweepPlaces removes those from before a time.
func (s *Store) SweepPlaces(ctx context.Context, before time.Time) error {
	return s.sweep(ctx, "known_places", "what", `at <= ?`, millis(before))
}
