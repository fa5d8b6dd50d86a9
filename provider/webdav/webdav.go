// Package webdav makes a collection of a WebDAV server (RFC 4918) an account.
//
// Servers differ in what they promise beyond the standard, so that it is found
// out before the first write (see probe.go): whether conditions on a PUT are
// obeyed, and whether a PUT shows its file only once all of it has arrived. Where
// it does not, a file is sent under a name of ours, read back, and moved to its
// own name.
//
// An entity tag is the revision, without the mark of a weak one. Where a server
// gives none, size and time of change stand in.
package webdav

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"deftheron/core/pinning"
	"deftheron/core/store"
)

// Provider is the provider "webdav".
type Provider struct{}

// Name implements store.Provider.
func (Provider) Name() string { return "webdav" }

// Title implements store.Provider.
func (Provider) Title() string { return "WebDAV server" }

// Options implements store.Provider.
func (Provider) Options() []store.Option {
	return []store.Option{
		{Name: "url", Title: "URL", Required: true, Help: "the collection's URL, such as https://files.example.org/dav/"},
		{Name: "user", Title: "User", Help: "the user name; omit it if the server asks for none"},
		{Name: "password", Title: "Password", Secret: true, Help: "the user's password"},
		pinning.CertificateOption(),
	}
}

// account implements store.Store.
type account struct {
	base   *url.URL // of the account's start, ending in "/"
	user   string
	signin *signin
	http   http.RoundTripper
	now    func() time.Time

	mu     sync.Mutex
	probed *findings
}

// Open implements store.Provider. It asks for the properties of the start.
func (p Provider) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	base, err := parseURL(opening.Options["url"])
	if err != nil {
		return nil, err
	}
	user, secret := opening.Options["user"], []byte(nil)
	if user != "" {
		if secret, err = opening.Secrets.Load(ctx); err != nil {
			return nil, err
		}
	}
	transport, err := pin(opening.Transport, opening.Options["certificate"])
	if err != nil {
		return nil, err
	}
	a := &account{
		base: base, user: user, signin: &signin{user: user, password: strings.TrimRight(string(secret), "\r\n")},
		http: opening.Gates().RoundTripper(transport), now: opening.Now,
	}
	if a.now == nil {
		a.now = time.Now
	}
	if opening.Start != "" {
		a.base = a.urlOf(opening.Start, "")
	}
	if err := a.reach(ctx, opening.Start); err != nil {
		return nil, err
	}
	return a, nil
}

func parseURL(text string) (*url.URL, error) {
	base, err := url.Parse(text)
	if err != nil || base.Host == "" || base.Scheme != "http" && base.Scheme != "https" {
		return nil, &store.OptionError{Option: "url",
			Reason: fmt.Sprintf("%q is not a URL of a WebDAV collection; give one such as https://files.example.org/dav/", text)}
	}
	if base.User != nil {
		return nil, &store.OptionError{Option: "url",
			Reason: "a sign-in does not belong into the URL, where it would be shown; give the user and the password apart from it"}
	}
	if base.RawQuery != "" || base.Fragment != "" {
		return nil, &store.OptionError{Option: "url", Reason: fmt.Sprintf("%q has a query or a fragment; give the URL of the collection alone",
			text)}
	}
	if !strings.HasSuffix(base.Path, "/") {
		base.Path += "/"
		if base.RawPath != "" {
			base.RawPath += "/"
		}
	}
	return base, nil
}

// reach looks at the start, which must be a collection.
func (a *account) reach(ctx context.Context, start store.Path) error {
	found, err := a.lookAt(ctx, a.base)
	if err != nil {
		return a.explain(err, start)
	}
	if found.Kind != store.KindFolder {
		return &store.OptionError{Option: "url", Reason: fmt.Sprintf("%s is a file; give the URL of a folder", a.base)}
	}
	if strings.HasSuffix(found.at.Path, "/") {
		a.base = found.at // what it redirects to is where it is
	}
	return nil
}

// Capabilities implements store.Store.
func (a *account) Capabilities() store.Capabilities {
	return store.Capabilities{
		Move: a.Move, Copy: a.Copy, Changes: a.Changes, Clean: a.Clean, Prepare: a.Prepare, Space: a.Space, Owner: a.Owner, Locate: a.Locate,
		Locker: a,
	}
}

// Traits implements store.Store.
func (a *account) Traits() store.Traits {
	found := a.found()
	traits := store.Traits{
		Order: store.OrderNone, Folders: store.FoldersReal, Names: &nameRules, TimePrecision: time.Second,
		Conditional: found.ifMatch && found.ifNoneMatch && found.whole && found.late, Whole: true, Streams: 8,
	}
	switch {
	case !found.whole:
		traits.Windows = append(traits.Windows,
			"This server shows a file while it is still being sent. Every file is therefore sent under a temporary name, read back, and moved "+
				"to its own name.",
			replacing)
	case !found.ifMatch || !found.ifNoneMatch:
		traits.Windows = append(traits.Windows,
			"This server does not check conditions. The target is checked just before it is written, "+
				"and a change in between is overwritten.")
	case !found.late:
		traits.Windows = append(traits.Windows,
			"This server checks conditions when a request starts, not when the file has arrived. "+
				"A file of up to 256 KiB is sent to its own name, and a change by others in these milliseconds is overwritten. "+
				"A larger file is sent under a temporary name, read back, and moved to its own name.",
			replacing)
	}
	traits.Windows = append(traits.Windows,
		"Deleting is conditional if the server checks entity tags; else the file is checked just before. "+
			"A folder is moved to a temporary name, checked to be empty, and only then deleted.")
	return traits
}

const replacing = "While such a file is replaced, its name is missing between two requests. The old content is kept aside " +
	"until the new one has the name, and is restored after an interruption."

// nameRules are those of a URL's path and of an XML answer.
var nameRules = store.NameRules{Keeper: "a WebDAV server", NoEmpty: true, NoSteps: true, NoSlashes: true, UTF8: true, MostBytes: 255}

// checkPlace refuses a place whose way holds a name that cannot be sent.
func checkPlace(place store.Ref) error {
	for _, name := range place.Folder.Path.Names() {
		if err := nameRules.Check("", name); err != nil {
			return err
		}
	}
	if place.IsStart() {
		return nil
	}
	return nameRules.Check(place.Folder.Path, place.Name)
}

// urlOf is the URL of a name in a folder; with an empty name, that of the
// folder itself, which ends in a slash.
func (a *account) urlOf(path store.Path, name string) *url.URL {
	decoded, escaped := a.base.Path, a.base.EscapedPath()
	for _, step := range path.Names() {
		decoded += step + "/"
		escaped += url.PathEscape(step) + "/"
	}
	return &url.URL{Scheme: a.base.Scheme, Host: a.base.Host, Path: decoded + name, RawPath: escaped + url.PathEscape(name)}
}

func (a *account) urlOfPlace(place store.Ref) *url.URL {
	if place.IsStart() {
		return a.base
	}
	return a.urlOf(place.Folder.Path, place.Name)
}

// Owner is store.Capabilities.Owner.
func (a *account) Owner(context.Context) (string, error) {
	if a.user == "" {
		return "nobody signed in", nil
	}
	return "user " + a.user, nil
}

// Locate is store.Capabilities.Locate.
func (a *account) Locate(folder store.Folder) string {
	return "dav+" + a.urlOf(folder.Path, "").String()
}
