package records

import (
	"bytes"
	"context"
	"database/sql"
	"maps"
	"sync"
	"time"
)

// Account is a linked account.
type Account struct {
	ID        string
	Name      string
	Provider  string
	Options   map[string]string `gorm:"serializer:json"`
	Start     string            // the starting folder, as in an address
	Secret    []byte            // sealed; empty where the provider has none
	ReadOnly  bool
	Owner     string // whom it belonged to when it was linked
	CreatedAt time.Time
	Suspended bool       // out of the tree until it is resumed
	SeenAt    *time.Time // when it answered last
	Mark      string     // of the place; empty where none was put there yet
	// SignedIn is the id of the account whose secret this one uses; empty
	// where it has its own.
	SignedIn string
	// Origin is where the secret was given for, see store.SecretOrigins: it is sent
	// to no other.
	Origin string
	// Site is the network whose workers reach the account, and Worker the id of the one that it
	// is at, if others of the site do not reach it; both are empty for what the service reaches.
	Site, Worker string
	// Search is what of the account is searched: SearchOff, SearchNames or SearchContents;
	// empty is as usual for its provider.
	Search string
}

// What of an account is searched.
const (
	SearchOff      = "off"
	SearchNames    = "names"
	SearchContents = "contents"
)

// accountCache holds the accounts that were read by name since one of them was last
// written: each item that arrives reads those at both its ends.
type accountCache struct {
	mu     sync.Mutex
	writes int // so far
	rows   map[string]Account
}

// get returns the account of a name, and how many writes it is from.
func (c *accountCache) get(name string) (account Account, ok bool, writes int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	account, ok = c.rows[name]
	return account, ok, c.writes
}

// put keeps an account that was read, unless one was written since.
func (c *accountCache) put(account Account, writes int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.writes != writes {
		return
	}
	if c.rows == nil {
		c.rows = map[string]Account{}
	}
	c.rows[account.Name] = account
}

// clear forgets all accounts. Whatever writes one calls it before it returns.
func (c *accountCache) clear() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.writes++
	c.rows = nil
}

// AddAccount adds an account; ErrTaken where its name is in use.
func (db *DB) AddAccount(ctx context.Context, account *Account) error {
	defer db.accounts.clear()
	return found(db.write.WithContext(ctx).Create(account).Error)
}

// Accounts returns all accounts by name.
func (db *DB) Accounts(ctx context.Context) (accounts []Account, err error) {
	err = db.read.WithContext(ctx).Order("name").Find(&accounts).Error
	return accounts, err
}

// Account returns the account of a name.
func (db *DB) Account(ctx context.Context, name string) (account Account, err error) {
	account, ok, writes := db.accounts.get(name)
	if !ok {
		if err := db.read.WithContext(ctx).Where("name = ?", name).First(&account).Error; err != nil {
			return account, found(err)
		}
		db.accounts.put(account, writes)
	}
	account.Options = maps.Clone(account.Options)
	account.Secret = bytes.Clone(account.Secret)
	return account, nil
}

// AccountByID returns the account of an id.
func (db *DB) AccountByID(ctx context.Context, id string) (account Account, err error) {
	err = db.read.WithContext(ctx).Where("id = ?", id).First(&account).Error
	return account, found(err)
}

// SharingSignIn returns the accounts that use the secret of another.
func (db *DB) SharingSignIn(ctx context.Context, keeper string) (accounts []Account, err error) {
	return accounts, db.read.WithContext(ctx).Where("signed_in = ?", keeper).Order("name").Find(&accounts).Error
}

// HandSignIn gives the sealed secret of an account to another, which all that
// shared it use from then on.
func (db *DB) HandSignIn(ctx context.Context, from, to string, secret []byte) error {
	defer db.accounts.clear()
	return db.transaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE accounts SET signed_in = ? WHERE signed_in = ?", to, from); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE accounts SET signed_in = '', secret = ? WHERE id = ?", secret, to)
		return err
	})
}

// RemoveAccount forgets an account. What is remembered of copies through it stays, for
// when its place is linked again: see ForgetEnded.
func (db *DB) RemoveAccount(ctx context.Context, account Account) error {
	defer db.accounts.clear()
	return db.transaction(ctx, func(tx *sql.Tx) error {
		for _, statement := range []string{"DELETE FROM space_samples WHERE account = ?", "DELETE FROM account_usage WHERE account = ?",
			"DELETE FROM open_uploads WHERE account = ?", "DELETE FROM properties WHERE account = ?",
			"DELETE FROM account_notes WHERE account = ?", "DELETE FROM worker_grants WHERE account = ?",
			"DELETE FROM accounts WHERE id = ?"} {
			if _, err := tx.ExecContext(ctx, statement, account.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// SwapSecret replaces a sealed secret if it is still the old one.
func (db *DB) SwapSecret(ctx context.Context, id string, old, new []byte) (swapped bool, err error) {
	defer db.accounts.clear()
	result := db.write.WithContext(ctx).Exec("UPDATE accounts SET secret = ? WHERE id = ? AND secret IS ?", new, id, old)
	return result.RowsAffected == 1, result.Error
}

// ForgetSecrets removes all sealed secrets and returns the names of the
// accounts that had one.
func (db *DB) ForgetSecrets(ctx context.Context) (names []string, err error) {
	defer db.accounts.clear()
	if err := db.read.WithContext(ctx).Model(&Account{}).Where("secret IS NOT NULL").Order("name").Pluck("name", &names).Error; err != nil {
		return nil, err
	}
	if err := db.write.WithContext(ctx).Exec("UPDATE registrations SET secret = NULL").Error; err != nil {
		return nil, err
	}
	return names, db.write.WithContext(ctx).Exec("UPDATE accounts SET secret = NULL").Error
}

// Token is something to sign in with. What is kept is its SHA-256 alone.
type Token struct {
	ID        string
	Kind      string // "owner", "session" or "token"
	User      string // the id of the user whose it is
	Name      string // of a token for programs
	Hash      []byte
	Role      string // of the records before there were users; the user's counts
	CreatedAt time.Time
	ExpiresAt *time.Time
	// From is the address from which a session was started, and Client its user agent.
	From, Client string
	SeenAt       *time.Time
	// Scopes and Grants narrow a token down to less than its user may do; empty for nothing less.
	Scopes []string `gorm:"serializer:json"`
	Grants []Grant  `gorm:"serializer:json"`
	// ConfirmedAt is when the user of a session signed in last.
	ConfirmedAt *time.Time
}

// AddToken adds a token.
func (db *DB) AddToken(ctx context.Context, token *Token) error {
	token.Scopes, token.Grants = append([]string{}, token.Scopes...), append([]Grant{}, token.Grants...) // never null
	return db.write.WithContext(ctx).Create(token).Error
}

// Token returns the token of a hash, unless it has expired.
func (db *DB) Token(ctx context.Context, hash []byte, now time.Time) (token Token, err error) {
	err = db.read.WithContext(ctx).Where("hash = ? AND (expires_at IS NULL OR expires_at > ?)", hash, now).First(&token).Error
	return token, found(err)
}

// Tokens returns the tokens of a kind that have not expired, the newest first.
func (db *DB) Tokens(ctx context.Context, kind string, now time.Time) (tokens []Token, err error) {
	err = db.read.WithContext(ctx).Where("kind = ? AND (expires_at IS NULL OR expires_at > ?)", kind,
		now).Order("created_at DESC").Find(&tokens).Error
	return tokens, err
}

// SawToken keeps when a token was used last.
func (db *DB) SawToken(ctx context.Context, id string, at time.Time) error {
	return db.write.WithContext(ctx).Model(&Token{}).Where("id = ?", id).Update("seen_at", at).Error
}

// HasOwner reports whether an owner's token was ever made.
func (db *DB) HasOwner(ctx context.Context) (bool, error) {
	var n int64
	err := db.read.WithContext(ctx).Model(&Token{}).Where("kind = ?", "owner").Count(&n).Error
	return n > 0, err
}

// RemoveToken forgets a token, and with it those that have expired.
func (db *DB) RemoveToken(ctx context.Context, id string, now time.Time) error {
	return db.write.WithContext(ctx).Where("id = ? OR expires_at <= ?", id, now).Delete(&Token{}).Error
}
