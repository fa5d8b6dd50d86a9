package store

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"deftheron/core/remedy"
)

// Provider is a kind of place that accounts can be at.
type Provider interface {
	// Name is one lower-case word, such as "folder".
	Name() string
	// Title names the provider for people, in a few words.
	Title() string
	// Options are the settings that open an account, in the order in which a
	// person would give them. Input is checked against them, and the command's
	// options and the console's form are made from them.
	Options() []Option
	// Open opens an account. Its error says in one sentence what is wrong, and
	// in one what to do. Open connects, and checks that the sign-in is accepted
	// and that the start exists; it writes nothing.
	Open(ctx context.Context, opening Opening) (Store, error)
}

// Option is one thing to be given when an account is linked.
type Option struct {
	Name     string   `json:"name"`  // lower-case, hyphens
	Title    string   `json:"title"` // for a form's label
	Help     string   `json:"help"`  // one sentence
	Required bool     `json:"required"`
	Default  string   `json:"default,omitempty"`
	Choices  []string `json:"choices,omitempty"`
	// Secret marks an option that is sealed in the records and never passed as an
	// argument. A provider has at most one secret option.
	Secret bool `json:"secret"`
	// File marks an option whose value is the content of a local file, such as a
	// private key: it is sealed with the secret as a Credential.
	File bool `json:"file,omitempty"`
	// Address marks an address in the tree of all accounts: a folder of another account,
	// on which this one depends.
	Address bool `json:"address,omitempty"`
	// ConnectionOption marks what says how a place is reached, rather than which it is.
	ConnectionOption bool `json:"-"`
}

// Restrictable is a provider that reaches places of this machine, where not all places may
// become accounts.
type Restrictable interface {
	// Restrict returns the provider limited to places below the allowed folders, if
	// there are any. Accounts do not see the private paths and what is in them.
	Restrict(allowed, private []string) Provider
}

// WriteChecker is a provider that can tell without writing whether a place may be written to.
type WriteChecker interface {
	// CheckWritable returns an *UnwritableError if the place may be read alone.
	CheckWritable(options map[string]string, start Path) error
}

// UnwritableError is the error if the service may not write to a folder of this machine.
type UnwritableError struct {
	Path string
	// ReadOnlySystem is set if the file system is mounted read-only for the service.
	ReadOnlySystem bool
	Err            error
}

func (e *UnwritableError) Error() string {
	return fmt.Sprintf("the service may not write to %s (%v)", e.Path, e.Err)
}

// Unwrap returns the cause, as the system has it.
func (e *UnwritableError) Unwrap() error { return e.Err }

// Opening is all that a provider gets to know of the program around it.
type Opening struct {
	// Account is the account's name, for errors and logs.
	Account string
	// Options as given, the secret left out, defaults filled in.
	Options map[string]string
	// Start is the folder of the place that becomes the account's start.
	Start Path
	// ReadOnly is set if the account is only read, so that the provider need not
	// ask for more permissions.
	ReadOnly bool
	// Secrets keep what must not be read by others.
	Secrets Secrets
	// Uploads, where it is not nil, keep the uploads that are open.
	Uploads Uploads
	// Base opens the account that an option which is an Address leads to.
	Base func(ctx context.Context, address string) (Base, error)
	// Notes, if not nil, store facts about the account over restarts.
	Notes Notes
	// Gate is passed around every request; see Gates. With a Base, it is the gate of Base.
	Gate Gate
	// Dial connects. It obeys the outbound proxy.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Transport sends HTTP requests through Dial. The provider wraps it with
	// Gate.RoundTripper.
	Transport http.RoundTripper
	// OnCertificate, if not nil, is called with each certificate that a server shows,
	// so that one which is about to expire is noticed.
	OnCertificate func(*x509.Certificate)
	// Now is the clock.
	Now func() time.Time
	// Log is where a provider may say what it noticed. Never a secret.
	Log *slog.Logger
}

// Base is a folder of another account, in which an account keeps its files.
type Base struct {
	Store  Store
	Folder Path
}

// Notes keep short texts about an account, by name. A name that has none has the empty text, and
// one that is given the empty text has none.
type Notes interface {
	Note(ctx context.Context, name string) (string, error)
	SaveNote(ctx context.Context, name, text string) error
}

// Maker is a provider that makes the place of an account that is linked, where it is not
// there.
type Maker interface {
	// Make makes the place and reports whether it did; where it is there, nothing happens.
	// With try nothing is made in any case: it reports whether it would.
	Make(ctx context.Context, opening Opening, try bool) (made bool, err error)
}

// Gate is what every protocol request of an account passes.
type Gate interface {
	// Pass waits for the request's turn. The caller calls the function returned when
	// the request has ended, with its error.
	Pass(ctx context.Context) (func(error), error)
	// Admit returns a context whose requests pass without waiting for a place among
	// those that run at once: others wait for their answer, and hold all places.
	Admit(ctx context.Context) context.Context
	// RoundTripper returns base with each request passed.
	RoundTripper(base http.RoundTripper) http.RoundTripper
}

// Gates returns the Gate, or one that lets everything pass where there is none.
func (o Opening) Gates() Gate {
	if o.Gate == nil {
		return open{}
	}
	return o.Gate
}

type open struct{}

func (open) Pass(context.Context) (func(error), error) { return func(error) {}, nil }

func (open) Admit(ctx context.Context) context.Context { return ctx }

func (open) RoundTripper(base http.RoundTripper) http.RoundTripper { return base }

// Secrets keep an account's secret, sealed.
type Secrets interface {
	// Load returns the secret as saved last.
	Load(ctx context.Context) ([]byte, error)
	// Save replaces old by new and returns ErrChanged if old is no longer the
	// stored secret. A rotated token is saved before it is used.
	Save(ctx context.Context, old, new []byte) error
}

// Uploads store what is needed to abort open uploads, for services that cannot list them:
// the next process aborts the uploads of one that was killed.
type Uploads interface {
	// Keep keeps an upload, sealed, and returns its id.
	Keep(ctx context.Context, upload []byte) (id int64, err error)
	// Drop forgets one that ended.
	Drop(ctx context.Context, id int64) error
	// Abandoned are those that a former process kept and did not drop, by id.
	Abandoned(ctx context.Context) (map[int64][]byte, error)
}

// SecretLocker is Secrets that several accounts share: one of them holds the secret
// while it replaces it.
type SecretLocker interface {
	// Lock waits until no other account holds the secret.
	Lock(ctx context.Context) (unlock func(), err error)
}

// LockSecret holds a secret that may be shared, until unlock is called.
func LockSecret(ctx context.Context, secrets Secrets) (unlock func(), err error) {
	if locker, ok := secrets.(SecretLocker); ok {
		return locker.Lock(ctx)
	}
	return func() {}, nil
}

// TokenLender is a store that signs in with tokens which are good for a short time, and gets new ones with
// a secret. It lends a token to another process, which then does not need that secret.
type TokenLender interface {
	// LendToken returns a token with which a store of the same provider can sign in, as its secret, until
	// the token ends; nil if the secret itself is needed.
	LendToken(ctx context.Context) ([]byte, error)
}

// FixedSecret is a secret that cannot be replaced, for tests and tools.
type FixedSecret string

// Load returns the secret.
func (s FixedSecret) Load(context.Context) ([]byte, error) { return []byte(s), nil }

// Save refuses.
func (s FixedSecret) Save(context.Context, []byte, []byte) error {
	return Errorf(ErrUnsupported, "this secret cannot be replaced")
}

// OptionError is an option that is wrong: which, why, and what to do.
type OptionError struct {
	Option string
	Reason string
}

func (e *OptionError) Error() string { return e.Reason }

// Unwrap returns the reason, with its remedy.
func (e *OptionError) Unwrap() error { return remedy.New(e.Reason) }

// Concerns returns an error that names the options of an account to look at.
func Concerns(err error, options ...string) error { return &concern{err, options} }

// OptionsOf returns the options that an error concerns.
func OptionsOf(err error) []string {
	var wrong *OptionError
	if errors.As(err, &wrong) {
		return []string{wrong.Option}
	}
	var one *concern
	if errors.As(err, &one) {
		return one.options
	}
	return nil
}

type concern struct {
	error
	options []string
}

func (c *concern) Unwrap() error { return c.error }

// CheckOptions fills in defaults and returns an *OptionError for an option
// that is unknown, missing or none of its choices. hasSecret says whether the
// secret was given.
func CheckOptions(p Provider, given map[string]string, hasSecret bool) (map[string]string, error) {
	known := map[string]Option{}
	var names []string
	for _, option := range p.Options() {
		known[option.Name] = option
		if !option.Secret {
			names = append(names, option.Name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(given)) {
		option, ok := known[name]
		if !ok {
			return nil, &OptionError{name, "the provider " + p.Name() + " has no option " + name + "; it has " + strings.Join(names, ", ")}
		}
		if option.Secret {
			return nil, &OptionError{name, "a secret is never given as an option; give it apart"}
		}
	}
	checked := map[string]string{}
	for _, option := range p.Options() {
		if option.Secret {
			if option.Required && !hasSecret {
				return nil, &OptionError{"secret-file", strings.ToLower(option.Title[:1]) + option.Title[1:] + " is missing"}
			}
			continue
		}
		value := strings.TrimSpace(given[option.Name])
		if value == "" {
			value = option.Default
		}
		if value == "" && option.Required {
			return nil, &OptionError{option.Name, option.Name + " is missing: " + option.Help}
		}
		if value != "" && len(option.Choices) > 0 && !slices.Contains(option.Choices, value) {
			return nil, &OptionError{option.Name, option.Name + " must be one of " + strings.Join(option.Choices, ", ")}
		}
		if value != "" {
			checked[option.Name] = value
		}
	}
	return checked, nil
}
