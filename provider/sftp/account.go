// Package sftp makes a folder of an SSH server an account, over the SSH File
// Transfer Protocol, version 3 (draft-ietf-secsh-filexfer-02).
//
// The server's host key is learned when the account is linked and pinned from then
// on: another one is refused before anything is sent. A file arrives under a name
// of ours, is made safe on the server's disk (fsync@openssh.com), verified, and gets
// its own name by a link that never replaces (hardlink@openssh.com) or a rename
// that does so in one step (posix-rename@openssh.com), as far as the server has
// these; else by renames with a look before.
package sftp

import (
	"context"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"time"

	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

// Provider is the provider "sftp".
type Provider struct{}

// Name implements store.Provider.
func (Provider) Name() string { return "sftp" }

// Title implements store.Provider.
func (Provider) Title() string { return "SFTP server" }

// Options implements store.Provider.
func (Provider) Options() []store.Option {
	return []store.Option{
		fileserver.HostOption(), fileserver.PortOption("22"),
		{Name: "user", Title: "User", Required: true, Help: "the user name"},
		{Name: "password", Title: "Password, or the key's passphrase", Secret: true,
			Help: "the user's password, or the passphrase of the private key"},
		{Name: "key-file", Title: "Private key", File: true, Help: "a private key to sign in with, in place of a password"},
		{Name: "path", Title: "Folder", Help: "the path of the folder on the server; the user's home folder unless given"},
		{Name: "host-key", ConnectionOption: true, Title: "Host key",
			Help: "the server's key, as ssh-keygen -l or ssh-keyscan print it; learned when the account is linked unless given"},
	}
}

// account implements store.Store.
type account struct {
	*fileserver.Store
	server  *server
	user    string
	address string
	pinned  map[string]string
}

// Open implements store.Provider.
func (Provider) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	target, err := targetOf(ctx, opening)
	if err != nil {
		return nil, err
	}
	log := opening.Log
	if log == nil {
		log = slog.New(slog.DiscardHandler)
	}
	pool := &pool{target: target, log: log}
	server := &server{pool: pool}
	a := &account{server: server, user: target.user, address: target.address, pinned: map[string]string{}}
	done, err := opening.Gates().Pass(ctx)
	if err != nil {
		return nil, err
	}
	base, err := server.start(ctx, opening.Options["path"])
	done(err)
	if err != nil {
		return nil, err
	}
	if given := opening.Options["host-key"]; given == "" {
		a.pinned["host-key"] = target.learned()
	}
	a.Store, err = fileserver.NewAt(ctx, server, base, opening, a.traits)
	if err != nil {
		_ = pool.close()
		return nil, err
	}
	return a, nil
}

// Capabilities implements store.Store: those of a file server, and its own.
func (a *account) Capabilities() store.Capabilities {
	c := a.Store.Capabilities()
	c.Space, c.Owner, c.Locate, c.Pinned, c.Close = a.Space, a.Owner, a.Locate, a.Pinned, a.Close
	return c
}

func (a *account) traits() store.Traits {
	found := a.server.found()
	traits := store.Traits{Names: &nameRules, TimePrecision: time.Second, KeepsTimes: true, Conditional: false, Streams: 8}
	if len(found.hashes) > 0 {
		traits.VerificationKind = found.hashes[0]
	}
	if !found.link {
		traits.Windows = append(traits.Windows, "This server makes no links: whether a name is free is looked at just before a file gets it.")
	}
	if found.replace {
		traits.Windows = append(traits.Windows,
			"The target is checked just before it is replaced in one step. A change in between is overwritten.")
	} else {
		traits.Windows = append(traits.Windows,
			"While a file is replaced, its name is missing between two requests; "+
				"the old content is kept aside until the new one has the name, and is put back after an interruption.")
	}
	if !found.sync {
		traits.Windows = append(traits.Windows,
			"This server cannot be told to write to its disk at once; what a power failure there takes is not noticed before the next comparison.")
	}
	traits.Windows = append(traits.Windows,
		"A file is identified by its size and its time in seconds: two changes of the same size within a second look like one.",
		"The file is checked just before it is deleted. A change in between is lost.")
	return traits
}

// nameRules are those of a path.
var nameRules = store.NameRules{Keeper: "an SFTP server", NoEmpty: true, NoSteps: true, NoSlashes: true, MostBytes: 255}

// Space is store.Capabilities.Space, where the server has statvfs@openssh.com.
func (a *account) Space(ctx context.Context) (store.Space, error) {
	path, err := a.Path(store.At())
	if err != nil {
		return store.UnknownSpace, err
	}
	return a.server.space(ctx, path, a.address)
}

// Owner is store.Capabilities.Owner.
func (a *account) Owner(context.Context) (string, error) {
	return fmt.Sprintf("user %s at %s", a.user, a.address), nil
}

// Locate is store.Capabilities.Locate.
func (a *account) Locate(folder store.Folder) string {
	path, err := a.Path(folder.Path.Ref())
	if err != nil {
		return ""
	}
	return (&url.URL{Scheme: "sftp", Host: a.address, Path: strings.TrimSuffix(path, "/") + "/"}).String()
}

// Pinned is store.Capabilities.Pinned.
func (a *account) Pinned() map[string]string { return a.pinned }

// Close ends the connections.
func (a *account) Close() error { return a.server.pool.close() }

// IdentityOption implements store.IdentityProber.
func (Provider) IdentityOption() string { return "host-key" }

// ProbeIdentity implements store.IdentityProber: it asks for the host key, and goes away.
func (Provider) ProbeIdentity(ctx context.Context, opening store.Opening) (value, words string, err error) {
	_, address, err := fileserver.Address(opening.Options)
	if err != nil {
		return "", "", err
	}
	t := newTarget(address, opening)
	key, err := t.introduce(ctx)
	if err != nil {
		return "", "", err
	}
	return key.String(), fmt.Sprintf("%s shows the host key %s", address, key), nil
}
