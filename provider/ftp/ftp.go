// Package ftp makes a folder of an FTP server an account (RFC 959), over TLS
// (RFC 4217) or in the clear where that is asked for.
//
// One connection carries one transfer, so an account has a pool of them. A file counts
// as written only when the server has replied 226 and reports the size that was sent.
// What a server does with a name that is taken, and whether it sets times, is probed
// before the first write (see probe.go).
package ftp

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"deftheron/core/pinning"
	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

// Provider is the provider "ftp".
type Provider struct{}

// Name implements store.Provider.
func (Provider) Name() string { return "ftp" }

// Title implements store.Provider.
func (Provider) Title() string { return "FTP server" }

// Options implements store.Provider.
func (Provider) Options() []store.Option {
	return []store.Option{
		fileserver.HostOption(),
		{Name: "port", Title: "Port", Help: "the port that it listens on; 21, or 990 with implicit TLS, unless given"},
		{Name: "user", Title: "User", Required: true, Help: "the user name; anonymous if the server asks for none"},
		{Name: "password", Title: "Password", Secret: true, Help: "the user's password"},
		{Name: "tls", ConnectionOption: true, Title: "Encryption", Default: tlsExplicit, Choices: []string{tlsExplicit, tlsImplicit, tlsNone},
			Help: "explicit starts TLS on the usual port, implicit connects with TLS; none sends the password and the files " +
				"unencrypted"},
		{Name: "path", Title: "Folder", Help: "the path of the folder on the server; the user's home folder unless given"},
		{Name: "connections", ConnectionOption: true, Title: "Connections", Default: "4",
			Help: "the most connections at once; a server may allow fewer"},
		pinning.CertificateOption(),
	}
}

// What --tls may say.
const (
	tlsExplicit = "explicit"
	tlsImplicit = "implicit"
	tlsNone     = "none"
)

// account implements store.Store.
type account struct {
	*fileserver.Store
	server *server
	target *target
}

// target is a server and how to sign in there.
type target struct {
	host, address  string
	user, password string
	mode           string
	tls            *tls.Config // nil where nothing is encrypted
	dial           func(ctx context.Context, network, address string) (net.Conn, error)
}

// Open implements store.Provider.
func (Provider) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	target, err := targetOf(ctx, opening)
	if err != nil {
		return nil, err
	}
	most, err := strconv.Atoi(opening.Options["connections"])
	if err != nil || most < 1 || most > 64 {
		return nil, &store.OptionError{Option: "connections",
			Reason: fmt.Sprintf("%q is not a number of connections; give 1 to 64", opening.Options["connections"])}
	}
	log := opening.Log
	if log == nil {
		log = slog.New(slog.DiscardHandler)
	}
	server := &server{pool: newPool(target, most, log)}
	a := &account{server: server, target: target}
	done, err := opening.Gates().Pass(ctx)
	if err != nil {
		return nil, err
	}
	base, err := server.start(ctx, opening.Options["path"])
	done(err)
	if err != nil {
		return nil, err
	}
	server.base = base
	a.Store, err = fileserver.NewAt(ctx, server, base, opening, a.traits)
	if err != nil {
		_ = server.pool.close()
		return nil, err
	}
	server.base = a.Base()
	return a, nil
}

func targetOf(ctx context.Context, opening store.Opening) (*target, error) {
	t := &target{user: opening.Options["user"], mode: opening.Options["tls"], dial: opening.Dial}
	if t.dial == nil {
		t.dial = (&net.Dialer{Timeout: 20 * time.Second}).DialContext
	}
	options := maps.Clone(opening.Options)
	if options["port"] == "" {
		options["port"] = map[string]string{tlsImplicit: "990"}[t.mode]
	}
	if options["port"] == "" {
		options["port"] = "21"
	}
	var err error
	if t.host, t.address, err = fileserver.Address(options); err != nil {
		return nil, err
	}
	if t.mode != tlsNone {
		config, err := pinning.PinnedTLS(opening.Options["certificate"])
		if err != nil {
			return nil, err
		}
		if config == nil {
			config = &tls.Config{MinVersion: tls.VersionTLS12}
		}
		config.ServerName = t.host
		if verify := config.VerifyConnection; verify == nil && opening.OnCertificate != nil {
			config.VerifyConnection = func(state tls.ConnectionState) error {
				opening.OnCertificate(state.PeerCertificates[0])
				return nil
			}
		}
		t.tls = config
	}
	secret, err := opening.Secrets.Load(ctx)
	var missing *store.OptionError
	if err != nil && !(errors.As(err, &missing) && t.user == "anonymous") {
		return nil, err
	}
	t.password = strings.TrimRight(string(secret), "\r\n")
	if strings.ContainsAny(t.user+t.password, "\r\n\x00") {
		return nil, &store.OptionError{Option: "user", Reason: "a user or a password with a line break in it cannot be sent"}
	}
	return t, nil
}

// Capabilities implements store.Store: the capabilities of a file server, and its own.
func (a *account) Capabilities() store.Capabilities {
	c := a.Store.Capabilities()
	c.Owner, c.Locate, c.Close = a.Owner, a.Locate, a.Close
	return c
}

func (a *account) traits() store.Traits {
	found := a.server.found()
	traits := store.Traits{Names: found.nameRules(), TimePrecision: time.Second, KeepsTimes: found.setsTimes,
		Streams: a.server.pool.allowed()}
	if found.noDots {
		traits.Windows = append(traits.Windows, "This server does not list names that start with a dot: such files are not seen.")
	}
	if !found.machine {
		traits.Windows = append(traits.Windows,
			"This server has no MLSD: the time of each file takes a request of its own, so long listings are slow.")
	}
	switch {
	case found.replaces:
		traits.Windows = append(traits.Windows,
			"This server replaces a file when another is renamed to its name. The target is checked just before, "+
				"and a change in between is overwritten.")
	default:
		traits.Windows = append(traits.Windows,
			"While a file is replaced, its name is missing between two requests. "+
				"The old content is kept aside until the new one has the name, and is restored after an interruption.")
	}
	traits.Windows = append(traits.Windows,
		"A file is identified by its size and its time in seconds: two changes of the same size within a second look like one.",
		"The file is checked just before it is deleted. A change in between is lost.",
		"The protocol cannot ask a server to write to its disk at once. "+
			"A loss by a power failure there is noticed at the next comparison.")
	return traits
}

// unlistable are names that a listing made for people does not tell.
var unlistable = regexp.MustCompile(`^ | -> `)

// nameRules returns the rules of the control connection (RFC 2640) and of this server.
func (f findings) nameRules() *store.NameRules {
	rules := store.NameRules{Keeper: "an FTP server", NoEmpty: true, NoSteps: true, NoSlashes: true, Without: "\r\n", UTF8: true,
		MostBytes: 255, NoDotFirst: f.noDots}
	if !f.machine {
		rules.Keeper, rules.Patterns = "the listing of this FTP server", []*regexp.Regexp{unlistable}
	}
	if f.noBlanks {
		rules.NoLast = " "
	}
	if f.noSlashes {
		rules.Without += `\`
	}
	return &rules
}

// Owner is store.Capabilities.Owner.
func (a *account) Owner(context.Context) (string, error) {
	return fmt.Sprintf("user %s at %s", a.target.user, a.target.address), nil
}

// Locate is store.Capabilities.Locate. With TLS or without, it is the same place.
func (a *account) Locate(folder store.Folder) string {
	path, err := a.Path(folder.Path.Ref())
	if err != nil {
		return ""
	}
	return (&url.URL{Scheme: "ftp", Host: a.target.address, User: url.User(a.target.user), Path: strings.TrimSuffix(path, "/") + "/"}).String()
}

// Close ends the connections.
func (a *account) Close() error { return a.server.pool.close() }
