// Package smb makes a folder of an SMB share an account (MS-SMB2, dialects 2.0.2
// to 3.1.1), signed always, and encrypted where the server or the account asks for
// it.
//
// Letter case is kept there and does not tell names apart, and names are those that
// Windows holds. A rename never replaces, so what a file replaces is moved aside
// first, and put back if anything fails.
package smb

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"strings"
	"time"

	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

// Provider is the provider "smb".
type Provider struct{}

// Name implements store.Provider.
func (Provider) Name() string { return "smb" }

// Title implements store.Provider.
func (Provider) Title() string { return "SMB share" }

// What --encryption may say.
const (
	encryptionOffered  = "offered"
	encryptionRequired = "required"
)

// Options implements store.Provider.
func (Provider) Options() []store.Option {
	return []store.Option{
		fileserver.HostOption(), fileserver.PortOption("445"),
		{Name: "share", Title: "Share", Required: true, Help: "the name of the share"},
		{Name: "user", Title: "User", Required: true, Help: `the user name, such as reader or DOMAIN\reader`},
		{Name: "password", Title: "Password", Secret: true, Required: true, Help: "the user's password"},
		{Name: "domain", ConnectionOption: true, Title: "Domain", Help: "the domain of the user, unless given with the user"},
		{Name: "path", Title: "Folder", Help: "a folder of the share; the whole share unless given"},
		{Name: "encryption", ConnectionOption: true, Title: "Encryption", Default: encryptionOffered,
			Choices: []string{encryptionOffered, encryptionRequired},
			Help:    "required refuses a server that does not encrypt; offered leaves it to the server. Everything is signed in either case"},
	}
}

// account implements store.Store.
type account struct {
	*fileserver.Store
	server *server
}

// Open implements store.Provider.
func (Provider) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	target, err := targetOf(ctx, opening)
	if err != nil {
		return nil, err
	}
	target.share = strings.Trim(opening.Options["share"], `\/`)
	if target.share == "" || strings.ContainsAny(target.share, `\/`) {
		return nil, &store.OptionError{Option: "share",
			Reason: fmt.Sprintf("%q is not a name of a share; give the name alone, without the server", opening.Options["share"])}
	}
	log := opening.Log
	if log == nil {
		log = slog.New(slog.DiscardHandler)
	}
	server := &server{target: target, log: log}
	a := &account{server: server}
	base := ""
	for _, name := range append(namesOf(opening.Options["path"]), opening.Start.Names()...) {
		if err := nameRules.Check("", name); err != nil {
			return nil, &store.OptionError{Option: "path", Reason: err.Error()}
		}
		base += "/" + name
	}
	a.Store = fileserver.New(server, base, opening.Gates(), a.traits)
	entry, err := a.Stat(ctx, store.At())
	if store.KindOf(err) == store.ErrNotFound || err == nil && entry.Kind != store.KindFolder {
		return nil, store.Concerns(store.Errorf(store.ErrNotFound,
			"there is no folder %s in the share %s of %s; make it, or give another path or starting folder", base, target.share, target.address),
			"path", "start")
	}
	if err != nil {
		return nil, err
	}
	return a, nil
}

func namesOf(path string) (names []string) {
	for name := range strings.FieldsFuncSeq(path, func(r rune) bool { return r == '/' || r == '\\' }) {
		names = append(names, name)
	}
	return names
}

func targetOf(ctx context.Context, opening store.Opening) (*target, error) {
	t := &target{dial: opening.Dial, encrypted: opening.Options["encryption"] == encryptionRequired}
	if t.dial == nil {
		t.dial = (&net.Dialer{Timeout: 20 * time.Second}).DialContext
	}
	var err error
	if t.host, t.address, err = fileserver.Address(opening.Options); err != nil {
		return nil, err
	}
	t.user, t.domain = opening.Options["user"], opening.Options["domain"]
	if domain, user, ok := strings.Cut(t.user, `\`); ok {
		t.domain, t.user = domain, user
	}
	secret, err := opening.Secrets.Load(ctx)
	if err != nil {
		return nil, err
	}
	t.password = strings.TrimRight(string(secret), "\r\n")
	return t, nil
}

// Capabilities implements store.Store: those of a file server, and its own.
func (a *account) Capabilities() store.Capabilities {
	c := a.Store.Capabilities()
	c.Space, c.Owner, c.Locate, c.Close = a.Space, a.Owner, a.Locate, a.Close
	return c
}

func (a *account) traits() store.Traits {
	return store.Traits{
		Names: &nameRules, CaseIgnored: true, TimePrecision: time.Second, KeepsTimes: true, Streams: 8,
		Windows: []string{
			"While a file is replaced, its name is missing between two requests. The old content is kept aside until " +
				"the new one has the name, and is restored after an interruption.",
			"A file is identified by its size and its time.",
			"The file is checked just before it is deleted. A change in between is lost.",
		},
	}
}

// nameRules are those of Windows (MS-FSCC, section 2.1.5).
var nameRules = store.NameRules{Keeper: "a share", NoEmpty: true, NoSteps: true, UTF8: true, Without: `\/:*?"<>|`, NoControls: true,
	NoLast: ". ", NoDevices: true, MostUnits: 255}

// Space is store.Capabilities.Space.
func (a *account) Space(ctx context.Context) (store.Space, error) {
	return a.server.space(ctx)
}

// Owner is store.Capabilities.Owner.
func (a *account) Owner(context.Context) (string, error) {
	return fmt.Sprintf("user %s at %s", a.server.target.who(), a.server.target.address), nil
}

// Locate is store.Capabilities.Locate.
func (a *account) Locate(folder store.Folder) string {
	path, err := a.Path(folder.Path.Ref())
	if err != nil {
		return ""
	}
	path = strings.ToLower("/" + a.server.target.share + strings.TrimSuffix(path, "/") + "/")
	return (&url.URL{Scheme: "smb", Host: strings.ToLower(a.server.target.address), Path: path}).String()
}

// Close ends the connection.
func (a *account) Close() error { return a.server.close() }

// ResourceOption implements store.ResourceLister.
func (Provider) ResourceOption() string { return "share" }

// ListResources implements store.ResourceLister, without the shares that Windows makes
// for itself, whose names end in "$".
func (Provider) ListResources(ctx context.Context, opening store.Opening) ([]store.Resource, error) {
	target, err := targetOf(ctx, opening)
	if err != nil {
		return nil, err
	}
	done, err := opening.Gates().Pass(ctx)
	if err != nil {
		return nil, err
	}
	names, err := target.shares(ctx)
	done(err)
	var found []store.Resource
	for _, name := range names {
		if !strings.HasSuffix(name, "$") {
			found = append(found, store.Resource{Value: name})
		}
	}
	return found, err
}
