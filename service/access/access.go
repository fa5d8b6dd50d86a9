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
	"sync"
	"time"

	"github.com/google/uuid"

	"deftheron/core/remedy"
	"deftheron/service/records"
)

// Owner is the role that may do everything.
const Owner = "owner"

// TokenFileName is the file of the owner's token in the data folder.
const TokenFileName = "owner.token"

// ErrNotSignedIn says that a token, a session or a link is not good, or no
// longer.
var ErrNotSignedIn = errors.New("not signed in")

const (
	sessionTime = 30 * 24 * time.Hour
	linkTime    = 15 * time.Minute
	mostLinks   = 32
)

// Person is who makes a request.
type Person struct {
	TokenID string
	Kind    string // "owner": by token; "session": in the console
	Role    string
}

// Access keeps tokens, sessions and one-time links.
type Access struct {
	DB  *records.DB
	Now func() time.Time

	mu    sync.Mutex
	links map[[sha256.Size]byte]time.Time // when they expire
	known map[[sha256.Size]byte]cached
	// ends are called when a token ends, by its id.
	ends   map[string]map[*func()]bool
	failed failures
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
func New(db *records.DB) *Access {
	return &Access{DB: db, Now: time.Now, links: map[[sha256.Size]byte]time.Time{}, known: map[[sha256.Size]byte]cached{},
		ends: map[string]map[*func()]bool{}}
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
	_, err = a.add(ctx, "owner", token, nil, Visitor{})
	return err
}

// Visitor is where a request comes from, and what program it says to be.
type Visitor struct{ From, Client string }

func (a *Access) add(ctx context.Context, kind, token string, expires *time.Time, by Visitor) (records.Token, error) {
	hash := sha256.Sum256([]byte(token))
	row := records.Token{ID: uuid.NewString(), Kind: kind, Hash: hash[:], Role: Owner, CreatedAt: a.Now(), ExpiresAt: expires, From: by.From,
		Client: by.Client}
	return row, a.DB.AddToken(ctx, &row)
}

// Who returns who holds a token or a session. ErrNotSignedIn for nobody.
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
	if row.SeenAt == nil || now.Sub(*row.SeenAt) > seenEvery {
		if err := a.DB.SawToken(ctx, row.ID, now); err != nil {
			return Person{}, err
		}
	}
	person := Person{TokenID: row.ID, Kind: row.Kind, Role: row.Role}
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.known) > 1000 {
		clear(a.known)
	}
	a.known[hash] = cached{person, now.Add(cacheTime)}
	return person, nil
}

// NewLink returns a token for one sign-in to the console, good for a quarter of
// an hour. It is kept in memory alone.
func (a *Access) NewLink() (token string, expires time.Time) {
	token, expires = secret(), a.Now().Add(linkTime)
	a.mu.Lock()
	defer a.mu.Unlock()
	for hash, until := range a.links {
		if a.Now().After(until) || len(a.links) >= mostLinks {
			delete(a.links, hash)
		}
	}
	a.links[sha256.Sum256([]byte(token))] = expires
	return token, expires
}

// Exchange takes a link's token, which is good no more afterwards, and returns a
// session.
func (a *Access) Exchange(ctx context.Context, link string, by Visitor) (session string, expires time.Time, err error) {
	hash := sha256.Sum256([]byte(link))
	a.mu.Lock()
	until, ok := a.links[hash]
	delete(a.links, hash)
	a.mu.Unlock()
	if !ok || a.Now().After(until) {
		return "", time.Time{}, ErrNotSignedIn
	}
	session, expires = secret(), a.Now().Add(sessionTime)
	_, err = a.add(ctx, "session", session, &expires, by)
	return session, expires, err
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

// EndSessions ends all sessions but one, and makes void the one-time links that nobody
// used yet.
func (a *Access) EndSessions(ctx context.Context, but string) error {
	sessions, err := a.Sessions(ctx)
	if err != nil {
		return err
	}
	a.mu.Lock()
	clear(a.links)
	a.mu.Unlock()
	for _, session := range sessions {
		if session.ID != but {
			err = errors.Join(err, a.EndSession(ctx, session.ID))
		}
	}
	return err
}

// Sessions are the sessions that are good, the newest first.
func (a *Access) Sessions(ctx context.Context) ([]records.Token, error) {
	return a.DB.Tokens(ctx, "session", a.Now())
}

// ended forgets what is known of a token, and ends what goes on by it.
func (a *Access) ended(id string) {
	a.mu.Lock()
	clear(a.known)
	ends := a.ends[id]
	delete(a.ends, id)
	a.mu.Unlock()
	for end := range ends {
		(*end)()
	}
}

// OnEnd has a function called when a token ends, until forget is called.
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

// Rotate makes a new owner's token, writes it to the file in the data folder, and ends
// the one before, with all sessions that are not those of the person who asks.
func (a *Access) Rotate(ctx context.Context, dir, but string) (token string, err error) {
	before, err := a.DB.Tokens(ctx, "owner", a.Now())
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
	if _, err := a.add(ctx, "owner", token, nil, Visitor{}); err != nil {
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
	return token, a.EndSessions(ctx, but)
}
