package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"sync"
	"time"

	"github.com/google/uuid"

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
}

// cached spares a look into the records for each request.
type cached struct {
	person Person
	until  time.Time
}

const cacheTime = 10 * time.Second

// New returns the access to a service with the records given.
func New(db *records.DB) *Access {
	return &Access{DB: db, Now: time.Now, links: map[[sha256.Size]byte]time.Time{}, known: map[[sha256.Size]byte]cached{}}
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
			return fmt.Errorf("%s is left from other records than those in this data folder; move it away, or name another folder with --data", path)
		}
		return fmt.Errorf("could not write the owner's token to %s: %w", path, err)
	}
	_, err = a.add(ctx, "owner", token, nil)
	return err
}

func (a *Access) add(ctx context.Context, kind, token string, expires *time.Time) (records.Token, error) {
	hash := sha256.Sum256([]byte(token))
	row := records.Token{ID: uuid.NewString(), Kind: kind, Hash: hash[:], Role: Owner, CreatedAt: a.Now(), ExpiresAt: expires}
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
func (a *Access) Exchange(ctx context.Context, link string) (session string, expires time.Time, err error) {
	hash := sha256.Sum256([]byte(link))
	a.mu.Lock()
	until, ok := a.links[hash]
	delete(a.links, hash)
	a.mu.Unlock()
	if !ok || a.Now().After(until) {
		return "", time.Time{}, ErrNotSignedIn
	}
	session, expires = secret(), a.Now().Add(sessionTime)
	_, err = a.add(ctx, "session", session, &expires)
	return session, expires, err
}

// End ends a session.
func (a *Access) End(ctx context.Context, person Person) error {
	a.mu.Lock()
	clear(a.known)
	a.mu.Unlock()
	if person.Kind != "session" {
		return nil
	}
	return a.DB.RemoveToken(ctx, person.TokenID, a.Now())
}
