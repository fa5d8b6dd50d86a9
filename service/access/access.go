package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"deftheron/core/remedy"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// TokenFileName is the file of the owner's token in the data folder.
const TokenFileName = "owner.token"

// ErrNotSignedIn is the error if a token, a session or a link is invalid or has
// ended.
var ErrNotSignedIn = errors.New("not signed in")

const (
	// A session ends sessionTime after it began, and idleTime after it was used last.
	sessionTime = 30 * 24 * time.Hour
	idleTime    = 7 * 24 * time.Hour
	linkTime    = 15 * time.Minute
	mostLinks   = 32
	// freshTime is how long after a sign-in a session may do what needs a fresh one.
	freshTime = 15 * time.Minute
)

// The kinds of sign-ins.
const (
	KindOwner   = "owner"   // the owner's token
	KindSession = "session" // the console
	KindToken   = "token"   // a token for programs
	// KindShareLink is a person without an account who uses a share link.
	KindShareLink = "share link"
)

// Person is who makes a request.
type Person struct {
	TokenID string
	Kind    string
	User    string // the id of the user
	Name    string // of the user
	Role    Role
	// Token is the name of a token for programs.
	Token string
	// Scopes are the kinds of operations that a token is for; none: all.
	Scopes []string
	// Narrowed is set if a token has grants of its own, which are less than its user's.
	Narrowed bool
	// Scope is what the person sees of the tree; nil: everything.
	Scope tree.Scope
	// Confirmed is when the user of a session signed in last.
	Confirmed time.Time
}

// Fresh reports whether the person has signed in recently enough for operations that need
// it. Tokens always count as fresh: they are not left open on a desk.
func (p Person) Fresh(now time.Time) bool {
	return p.Kind != KindSession || now.Sub(p.Confirmed) < freshTime
}

// Has reports whether the token of a person is for a kind of operations.
func (p Person) Has(scope string) bool {
	return len(p.Scopes) == 0 || scope == "" || slices.Contains(p.Scopes, scope)
}

// Access keeps users, grants, tokens, sessions and one-time links.
type Access struct {
	DB     *records.DB
	Sealer *Sealer
	Now    func() time.Time
	// Regranted, if not nil, is called after the role or the grants of a user changed.
	Regranted func(user string)

	hashing chan struct{} // bounds the memory that hashing passwords takes
	codes   sync.Mutex    // one code is checked, and used up, at a time
	mu      sync.Mutex
	links   map[[sha256.Size]byte]link
	known   map[[sha256.Size]byte]cached
	// ends are called when a token ends, by its id.
	ends   map[string]map[*func()]bool
	failed failures
}

// link is a one-time link for the console.
type link struct {
	expires time.Time
	user    string
	by      string // the id of the token that asked for it; it ends with that
}

// cached spares a look into the records for each request.
type cached struct {
	person Person
	until  time.Time
}

const cacheTime = 10 * time.Second

// seenEvery is how often it is kept that a token was used.
const seenEvery = 5 * time.Minute

// New returns the access to a service with the records given.
func New(db *records.DB, sealer *Sealer) *Access {
	return &Access{DB: db, Sealer: sealer, Now: time.Now, hashing: make(chan struct{}, mostHashing), links: map[[sha256.Size]byte]link{},
		known: map[[sha256.Size]byte]cached{}, ends: map[string]map[*func()]bool{}}
}

// secret returns 32 random bytes as text.
func secret() string {
	var random [32]byte
	rand.Read(random[:])
	return base64.RawURLEncoding.EncodeToString(random[:])
}

// EnsureOwner makes the owner's token on the first start, and writes it to a
// file of mode 0600 in the data folder.
func (a *Access) EnsureOwner(ctx context.Context, dir string) error {
	has, err := a.DB.HasOwner(ctx)
	if err != nil || has {
		return err
	}
	token := secret()
	path := filepath.Join(dir, TokenFileName)
	if err := WriteSecretFile(path, token+"\n"); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return remedy.Errorf("%s is left from other records than those in this data folder; move it away, or name another folder with --data",
				path)
		}
		return fmt.Errorf("could not write the owner's token to %s: %w", path, err)
	}
	return a.add(ctx, token, &records.Token{Kind: KindOwner, User: records.OwnerID})
}

// Visitor is where a request comes from, and what program it says to be.
type Visitor struct{ From, Client string }

// add saves a token; row has its kind and user.
func (a *Access) add(ctx context.Context, token string, row *records.Token) error {
	hash := sha256.Sum256([]byte(token))
	row.ID, row.Hash, row.CreatedAt = uuid.NewString(), hash[:], a.Now()
	return a.DB.AddToken(ctx, row)
}

// begin begins a session of a user.
func (a *Access) begin(ctx context.Context, user string, by Visitor) (session string, expires time.Time, err error) {
	now := a.Now()
	if err := a.DB.SaveUser(ctx, records.User{ID: user, SeenAt: &now}, "seen_at"); err != nil {
		return "", expires, err
	}
	session, expires = secret(), now.Add(sessionTime)
	return session, expires, a.add(ctx, session, &records.Token{Kind: KindSession, User: user, ExpiresAt: &expires, ConfirmedAt: &now,
		From: by.From, Client: by.Client})
}

// Who returns the holder of a token or a session; ErrNotSignedIn if there is none.
func (a *Access) Who(ctx context.Context, token string) (Person, error) {
	if token == "" {
		return Person{}, ErrNotSignedIn
	}
	hash := sha256.Sum256([]byte(token))
	now := a.Now()
	a.mu.Lock()
	known, ok := a.known[hash]
	a.mu.Unlock()
	if ok && now.Before(known.until) {
		return known.person, nil
	}
	row, err := a.DB.Token(ctx, hash[:], now)
	if errors.Is(err, records.ErrNotFound) {
		return Person{}, ErrNotSignedIn
	}
	if err != nil {
		return Person{}, err
	}
	if row.Kind == KindSession && now.Sub(seen(row)) > idleTime {
		return Person{}, ErrNotSignedIn
	}
	person, err := a.personOf(ctx, row)
	if err != nil {
		return Person{}, err
	}
	if row.SeenAt == nil || now.Sub(*row.SeenAt) > seenEvery {
		if err := a.DB.SawToken(ctx, row.ID, now); err != nil {
			return Person{}, err
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.known) > 1000 {
		clear(a.known)
	}
	a.known[hash] = cached{person, now.Add(cacheTime)}
	return person, nil
}

// seen is when a session was used last.
func seen(row records.Token) time.Time {
	if row.SeenAt != nil {
		return *row.SeenAt
	}
	return row.CreatedAt
}

// NewLink returns a token for one sign-in to the console as a user, good for a quarter of an
// hour, and no longer than the sign-in that asked for it. It is kept in memory alone.
func (a *Access) NewLink(user, by string) (token string, expires time.Time) {
	token, expires = secret(), a.Now().Add(linkTime)
	a.mu.Lock()
	defer a.mu.Unlock()
	for hash, one := range a.links {
		if a.Now().After(one.expires) || len(a.links) >= mostLinks {
			delete(a.links, hash)
		}
	}
	a.links[sha256.Sum256([]byte(token))] = link{expires: expires, user: user, by: by}
	return token, expires
}

// take takes a link's token, which is good no more afterwards, and returns its user.
func (a *Access) take(token string) (user string, ok bool) {
	hash := sha256.Sum256([]byte(token))
	a.mu.Lock()
	defer a.mu.Unlock()
	one, ok := a.links[hash]
	delete(a.links, hash)
	return one.user, ok && !a.Now().After(one.expires)
}

// Exchange takes a link's token, which is good no more afterwards, and returns a
// session.
func (a *Access) Exchange(ctx context.Context, token string, by Visitor) (session string, expires time.Time, err error) {
	user, ok := a.take(token)
	if !ok {
		return "", time.Time{}, ErrNotSignedIn
	}
	if row, err := a.DB.User(ctx, user); err != nil || row.Disabled {
		return "", time.Time{}, errors.Join(ErrNotSignedIn, err)
	}
	return a.begin(ctx, user, by)
}

// End ends a session.
func (a *Access) End(ctx context.Context, person Person) error {
	if person.Kind != "session" {
		return nil
	}
	return a.EndSession(ctx, person.TokenID)
}

// EndSession ends the session of an id, and all that goes on by it.
func (a *Access) EndSession(ctx context.Context, id string) error {
	err := a.DB.RemoveToken(context.WithoutCancel(ctx), id, a.Now())
	a.ended(id)
	return err
}

// EndSessions ends all sessions of a user except one (of all users, if the user is empty), and
// invalidates the unused one-time links.
func (a *Access) EndSessions(ctx context.Context, user, but string) error {
	sessions, err := a.Sessions(ctx)
	if err != nil {
		return err
	}
	a.mu.Lock()
	for hash, one := range a.links {
		if user == "" || one.user == user {
			delete(a.links, hash)
		}
	}
	a.mu.Unlock()
	for _, session := range sessions {
		if session.ID != but && (user == "" || session.User == user) {
			err = errors.Join(err, a.EndSession(ctx, session.ID))
		}
	}
	return err
}

// Sessions are the sessions of all users that are good, the newest first.
func (a *Access) Sessions(ctx context.Context) ([]records.Token, error) {
	sessions, err := a.DB.Tokens(ctx, KindSession, a.Now())
	return slices.DeleteFunc(sessions, func(row records.Token) bool { return a.Now().Sub(seen(row)) > idleTime }), err
}

// ended removes a token from the cache, and ends the streams that use it.
func (a *Access) ended(id string) {
	a.mu.Lock()
	clear(a.known)
	for hash, one := range a.links {
		if one.by == id {
			delete(a.links, hash)
		}
	}
	ends := a.ends[id]
	delete(a.ends, id)
	a.mu.Unlock()
	for end := range ends {
		(*end)()
	}
}

// OnEnd calls a function when a token ends, unless forget is called before.
func (a *Access) OnEnd(id string, end func()) (forget func()) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.ends[id] == nil {
		a.ends[id] = map[*func()]bool{}
	}
	a.ends[id][&end] = true
	return func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		delete(a.ends[id], &end)
		if len(a.ends[id]) == 0 {
			delete(a.ends, id)
		}
	}
}

// Rotate creates a new owner's token and writes it to the file in the data folder. It ends the
// previous token, and all sessions of the owner except the caller's.
func (a *Access) Rotate(ctx context.Context, dir, but string) (token string, err error) {
	before, err := a.DB.Tokens(ctx, KindOwner, a.Now())
	if err != nil {
		return "", err
	}
	token = secret()
	path := filepath.Join(dir, TokenFileName)
	fresh := path + ".new"
	if err := os.Remove(fresh); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	if err := WriteSecretFile(fresh, token+"\n"); err != nil {
		return "", fmt.Errorf("could not write the owner's token to %s: %w", fresh, err)
	}
	if err := a.add(ctx, token, &records.Token{Kind: KindOwner, User: records.OwnerID}); err != nil {
		return "", err
	}
	if err := os.Rename(fresh, path); err != nil {
		return "", err
	}
	for _, one := range before {
		if err := a.EndSession(ctx, one.ID); err != nil {
			return "", err
		}
	}
	return token, a.EndSessions(ctx, records.OwnerID, but)
}
