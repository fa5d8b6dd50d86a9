// Package share keeps share links: a file or folder for somebody without an account, for a
// time, with a password, so many times. A link holds a token of 256 random bits, of which
// only a hash is kept, and never more rights than who made it has now.
//
// What links are used is counted in memory and recorded in batches, but for those with a
// limit of uses, of which each is recorded before it is answered.
package share

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"strconv"
	"strings"
	"sync"
	"time"

	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/service/records"
)

// The modes of links.
const (
	View     = "view"     // to look at
	Download = "download" // to look at and download
	DropOff  = "drop-off" // to send files to
)

const (
	tokenSize = 32
	// openFor is how long somebody who has opened a link need not do so again.
	openFor = 24 * time.Hour
	// mostCached is how many links are kept in memory.
	mostCached = 1000
	// recordEvery is how often uses are recorded.
	recordEvery = 500 * time.Millisecond
	// longest is for how long a link is good at most.
	longest = 366 * 24 * time.Hour
	// usualFile and usualBytes limit what is sent to a link, in bytes.
	usualFile, usualBytes = 2 << 30, 20 << 30
)

// ErrNone says that there is no such link, or not any more: which of the two is nobody's
// business.
var ErrNone = errors.New("no link")

// ErrPassword says that a link wants a password, or another one.
var ErrPassword = errors.New("the link wants its password")

// Asked is a link to make.
type Asked struct {
	Address     store.Address
	Account     string // the id of the account's link
	Mode        string
	User, By    string
	Note        string
	Password    string
	For         time.Duration // 0 for 30 days
	MostUses    int64
	LargestFile int64 // in bytes; 0 is as usual
	MostBytes   int64
}

// Passwords hashes passwords and compares them.
type Passwords interface {
	Hash(password string) string
	Matches(password, hash string) bool
}

// Links are all share links.
type Links struct {
	db        *records.DB
	passwords Passwords
	log       *slog.Logger
	flushing  sync.Mutex // held while what was counted is recorded

	mu     sync.Mutex
	cached map[string]*Link // by hash
	byID   map[string]*Link
	uses   []records.ShareUse
}

// Link is one that is good.
type Link struct {
	mu      sync.Mutex
	row     records.ShareLink
	changed bool // what is counted is not recorded yet
	gone    bool
}

// New returns the links of the records.
func New(db *records.DB, passwords Passwords, log *slog.Logger) *Links {
	return &Links{db: db, passwords: passwords, log: log, cached: map[string]*Link{}, byID: map[string]*Link{}}
}

// enabledName is under which the records have whether links are switched on.
const enabledName = "share-links"

// Enabled reports whether links can be made and used.
func (l *Links) Enabled(ctx context.Context) (bool, error) {
	value, err := l.db.Meta(ctx, enabledName)
	return value == "on", err
}

// Enable switches links on or off. Those that are there stay, and open nothing while they
// are off.
func (l *Links) Enable(ctx context.Context, on bool) error {
	value := "off"
	if on {
		value = "on"
	}
	return l.db.SetMeta(ctx, enabledName, value)
}

// Make makes a link and returns its token, which cannot be returned again.
func (l *Links) Make(ctx context.Context, asked Asked, now time.Time) (row records.ShareLink, token string, err error) {
	if on, err := l.Enabled(ctx); err != nil || !on {
		if err == nil {
			err = store.Errorf(store.ErrRefused, "share links are switched off; an owner switches them on with heron share on")
		}
		return row, "", err
	}
	if asked.For == 0 {
		asked.For = 30 * 24 * time.Hour
	}
	switch {
	case asked.Mode != View && asked.Mode != Download && asked.Mode != DropOff:
		return row, "", remedy.Errorf("%q is nothing that a link is for; use view, download or drop-off", asked.Mode)
	case asked.For < time.Minute || asked.For > longest:
		return row, "", remedy.Errorf("a link is good for a minute to a year; give a time such as 7d")
	case asked.MostUses < 0 || asked.LargestFile < 0 || asked.MostBytes < 0:
		return row, "", remedy.Errorf("a limit cannot be less than nothing; leave it out for none")
	case asked.Password != "" && len(asked.Password) < 8:
		return row, "", remedy.Errorf("the password of the link is too short; use at least 8 characters")
	case len(asked.Password) > 1024 || len(asked.Note) > 500:
		return row, "", remedy.Errorf("the password or the note is too long; use at most 1,024 and 500 bytes")
	case asked.Mode != DropOff && (asked.LargestFile > 0 || asked.MostBytes > 0):
		return row, "", remedy.Errorf("limits of size are for links that files are sent to; remove them, or use the mode drop-off")
	}
	random, key := make([]byte, tokenSize), make([]byte, 32)
	rand.Read(random)
	rand.Read(key)
	token = base64.RawURLEncoding.EncodeToString(random)
	expires := now.Add(asked.For).UTC().Truncate(time.Second)
	row = records.ShareLink{ID: strings.ToLower(rand.Text()[:10]), Hash: hashOf(token), Key: key, Address: asked.Address.String(),
		Link: asked.Account,
		Mode: asked.Mode, User: asked.User, By: asked.By, Note: asked.Note, CreatedAt: now.UTC(), ExpiresAt: &expires, MostUses: asked.MostUses}
	if asked.Mode == DropOff {
		row.LargestFile, row.MostBytes = asked.LargestFile, asked.MostBytes
		if row.LargestFile == 0 {
			row.LargestFile = usualFile
		}
		if row.MostBytes == 0 {
			row.MostBytes = usualBytes
		}
	}
	if asked.Password != "" {
		row.Password = l.passwords.Hash(asked.Password)
	}
	return row, token, l.db.AddShareLink(ctx, row)
}

func hashOf(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// Find returns the link of a token. ErrNone if there is none that is good now.
func (l *Links) Find(ctx context.Context, token string, now time.Time) (*Link, error) {
	if len(token) != base64.RawURLEncoding.EncodedLen(tokenSize) {
		return nil, ErrNone
	}
	on, err := l.Enabled(ctx)
	if err != nil || !on {
		return nil, errors.Join(ErrNone, err)
	}
	hash := hashOf(token)
	l.mu.Lock()
	link := l.cached[hash]
	l.mu.Unlock()
	if link == nil {
		row, err := l.db.ShareLinkByHash(ctx, hash)
		if errors.Is(err, records.ErrNotFound) {
			return nil, ErrNone
		}
		if err != nil {
			return nil, err
		}
		link = l.cache(row)
	}
	if !link.good(now) {
		return nil, ErrNone
	}
	return link, nil
}

// cache keeps a link in memory, or returns the one that is.
func (l *Links) cache(row records.ShareLink) *Link {
	l.mu.Lock()
	defer l.mu.Unlock()
	if link := l.cached[row.Hash]; link != nil {
		return link
	}
	if len(l.cached) >= mostCached {
		for hash, link := range l.cached {
			if link.mu.TryLock() {
				idle := !link.changed
				link.mu.Unlock()
				if idle {
					delete(l.cached, hash)
					delete(l.byID, link.row.ID)
				}
			}
			if len(l.cached) < mostCached {
				break
			}
		}
	}
	link := &Link{row: row}
	l.cached[row.Hash], l.byID[row.ID] = link, link
	return link
}

func (k *Link) good(now time.Time) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return !k.gone && k.row.RevokedAt == nil && (k.row.ExpiresAt == nil || now.Before(*k.row.ExpiresAt))
}

// Row returns what is recorded of a link, with what was counted since.
func (k *Link) Row() records.ShareLink {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.row
}

// Good reports whether a link that was found is still good: it may be revoked meanwhile.
func (k *Link) Good(now time.Time) bool { return k.good(now) }

// cookie is what somebody gets who has opened a link: until when, and a MAC of that.
func (k *Link) cookie(until time.Time) string {
	mac := hmac.New(sha256.New, k.row.Key)
	text := strconv.FormatInt(until.Unix(), 10)
	fmt.Fprint(mac, k.row.ID, " ", text)
	return text + "." + base64.RawURLEncoding.EncodeToString(mac.Sum(nil))
}

// Opened reports whether a cookie is of somebody who has opened the link.
func (k *Link) Opened(cookie string, now time.Time) bool {
	text, _, _ := strings.Cut(cookie, ".")
	seconds, err := strconv.ParseInt(text, 10, 64)
	if err != nil || !now.Before(time.Unix(seconds, 0)) {
		return false
	}
	return hmac.Equal([]byte(k.cookie(time.Unix(seconds, 0))), []byte(cookie))
}

// NeedsPassword reports whether a link has one.
func (k *Link) NeedsPassword() bool { return k.row.Password != "" }

// Unlock compares a password. ErrPassword if it is another.
func (l *Links) Unlock(link *Link, password string) error {
	if link.NeedsPassword() && !l.passwords.Matches(password, link.row.Password) {
		return ErrPassword
	}
	return nil
}

// Open counts a use of a link, and returns the cookie that it need not be counted again.
// ErrNone if it has no use left.
func (l *Links) Open(ctx context.Context, link *Link, now time.Time) (cookie string, err error) {
	link.mu.Lock()
	defer link.mu.Unlock()
	if link.row.MostUses > 0 && link.row.Uses >= link.row.MostUses {
		return "", ErrNone
	}
	link.row.Uses++
	at := now.UTC()
	link.row.UsedAt, link.changed = &at, true
	if link.row.MostUses > 0 {
		if err := l.db.SaveShareLink(ctx, link.row, "uses", "used_at"); err != nil {
			link.row.Uses--
			return "", err
		}
	}
	return link.cookie(now.Add(openFor)), nil
}

// Reserve takes room for a file that is sent to a link, of so many bytes. The error says what
// is too large.
func (k *Link) Reserve(bytes int64) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if bytes > k.row.LargestFile {
		return store.Errorf(store.ErrTooLarge, "the file is larger than the %d MiB that may be sent here", k.row.LargestFile>>20)
	}
	if k.row.Bytes+bytes > k.row.MostBytes {
		return store.Errorf(store.ErrNoSpace, "no more than %d MiB may be sent here in all", k.row.MostBytes>>20)
	}
	k.row.Bytes += bytes
	k.changed = true
	return nil
}

// Return gives room back that was not needed.
func (k *Link) Return(bytes int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.row.Bytes = max(0, k.row.Bytes-bytes)
	k.changed = true
}

// Left is how many bytes may still be sent to a link in one file.
func (k *Link) Left() int64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	return min(k.row.LargestFile, k.row.MostBytes-k.row.Bytes)
}

// Note records a use. Several of one kind, name and place that follow each other are one.
func (l *Links) Note(link *Link, use records.ShareUse) {
	use.Link, use.Times = link.row.ID, 1
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := range l.uses {
		same := &l.uses[i]
		if same.Link == use.Link && same.What == use.What && same.Name == use.Name && same.From == use.From {
			same.Times++
			same.Bytes += use.Bytes
			return
		}
	}
	if len(l.uses) < mostCached {
		l.uses = append(l.uses, use)
	}
}

// Revoke ends a link at once.
func (l *Links) Revoke(ctx context.Context, id string, now time.Time) error {
	at := now.UTC()
	if err := l.db.SaveShareLink(ctx, records.ShareLink{ID: id, RevokedAt: &at}, "revoked_at"); err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if link := l.byID[id]; link != nil {
		link.mu.Lock()
		link.gone = true
		link.mu.Unlock()
		delete(l.cached, link.row.Hash)
		delete(l.byID, id)
	}
	return nil
}
