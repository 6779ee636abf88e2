package client

import "context"

// KeyringCalls are the calls about keyrings.
type KeyringCalls struct{ c *Client }

// Keyrings returns the calls about keyrings.
func (c *Client) Keyrings() KeyringCalls { return KeyringCalls{c} }

// List returns all keyrings with their entries.
func (k KeyringCalls) List(ctx context.Context) (all []Keyring, err error) {
	return all, k.c.do(ctx, "GET", "/keyrings", nil, &all)
}

// Add adds a name with a password to a keyring.
func (k KeyringCalls) Add(ctx context.Context, keyring string, n NewEntry) (e Entry, err error) {
	return e, k.c.do(ctx, "POST", ring(keyring)+"/entries", n, &e)
}

// SetPassword gives an entry another password.
func (k KeyringCalls) SetPassword(ctx context.Context, keyring, name string, n NewEntryPassword) error {
	return k.c.do(ctx, "PUT", entry(keyring, name)+"/password", n, nil)
}

// Edit changes the note or the end of an entry.
func (k KeyringCalls) Edit(ctx context.Context, keyring, name string, to EntryEdit) error {
	return k.c.do(ctx, "PATCH", entry(keyring, name), to, nil)
}

// SetDisabled disables or enables an entry.
func (k KeyringCalls) SetDisabled(ctx context.Context, keyring, name string, disabled bool) error {
	return k.c.do(ctx, "PUT", entry(keyring, name)+"/disabled", disabled, nil)
}

// Remove removes a name from a keyring.
func (k KeyringCalls) Remove(ctx context.Context, keyring, name string) error {
	return k.c.do(ctx, "DELETE", entry(keyring, name), nil, nil)
}

// Import brings in an htpasswd file.
func (k KeyringCalls) Import(ctx context.Context, keyring string, i EntriesImport) (lines []ImportedLine, err error) {
	return lines, k.c.do(ctx, "POST", ring(keyring)+"/import", i, &lines)
}

// Export returns a keyring as an htpasswd file.
func (k KeyringCalls) Export(ctx context.Context, keyring string) (e EntriesExport, err error) {
	return e, k.c.do(ctx, "GET", ring(keyring)+"/export", nil, &e)
}
