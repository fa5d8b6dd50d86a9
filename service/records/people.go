package records

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// OwnerID is the id of the user that every service has: whoever holds the owner's token.
const OwnerID = "owner"

var peopleSchema = []string{
	`CREATE TABLE users (
		id TEXT PRIMARY KEY, name TEXT NOT NULL UNIQUE, role TEXT NOT NULL, password TEXT NOT NULL DEFAULT '', totp BLOB,
		totp_step INTEGER NOT NULL DEFAULT 0, recovery TEXT NOT NULL DEFAULT '[]', issuer TEXT NOT NULL DEFAULT '',
		subject TEXT NOT NULL DEFAULT '', disabled INTEGER NOT NULL DEFAULT 0, created_at DATETIME NOT NULL, seen_at DATETIME)`,
	"CREATE UNIQUE INDEX users_subject ON users (issuer, subject) WHERE subject <> ''",
	"INSERT INTO users (id, name, role, created_at) VALUES ('owner', 'owner', 'owner', CURRENT_TIMESTAMP)",
	// An empty account is every account.
	`CREATE TABLE grants (
		user TEXT NOT NULL, account TEXT NOT NULL, folder TEXT NOT NULL, role TEXT NOT NULL, PRIMARY KEY (user, account, folder)) WITHOUT ROWID`,
	"CREATE INDEX grants_account ON grants (account)",
	"ALTER TABLE tokens ADD COLUMN user TEXT NOT NULL DEFAULT 'owner'",
	"ALTER TABLE tokens ADD COLUMN name TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE tokens ADD COLUMN scopes TEXT NOT NULL DEFAULT '[]'",
	"ALTER TABLE tokens ADD COLUMN grants TEXT NOT NULL DEFAULT '[]'",
	"ALTER TABLE tokens ADD COLUMN confirmed_at DATETIME",
	"CREATE INDEX tokens_user ON tokens (user)",
	`CREATE TABLE passkeys (
		id TEXT PRIMARY KEY, user TEXT NOT NULL, name TEXT NOT NULL, credential TEXT NOT NULL, created_at DATETIME NOT NULL, seen_at DATETIME)`,
	"CREATE INDEX passkeys_user ON passkeys (user)",
	"ALTER TABLE jobs ADD COLUMN owner TEXT NOT NULL DEFAULT 'owner'",
	`CREATE TABLE audit (
		seq INTEGER PRIMARY KEY, at INTEGER NOT NULL, user TEXT NOT NULL, kind TEXT NOT NULL, "from" TEXT NOT NULL, client TEXT NOT NULL,
		action TEXT NOT NULL, subject TEXT NOT NULL, outcome TEXT NOT NULL, times INTEGER NOT NULL, mac BLOB NOT NULL)`,
	"CREATE INDEX audit_user ON audit (user, seq)",
	"CREATE INDEX audit_action ON audit (action, seq)",
}

// User is a person who may sign in.
type User struct {
	ID   string
	Name string
	Role string // "owner", "operator" or "viewer"
	// Password is an argon2id hash in its usual text form; empty for none.
	Password string
	// TOTP is the sealed key of one-time codes; TOTPStep the last step that was used.
	TOTP     []byte `gorm:"column:totp"`
	TOTPStep int64  `gorm:"column:totp_step"`
	// Recovery are the SHA-256 hashes of recovery codes that are left.
	Recovery []string `gorm:"serializer:json"`
	// Issuer and Subject name the user at an OpenID provider.
	Issuer, Subject string
	Disabled        bool
	CreatedAt       time.Time
	SeenAt          *time.Time
}

// Grant is a role on an account, by its id, or on a folder of it. An empty account is all
// accounts.
type Grant struct {
	User    string `json:"-"`
	Account string `json:"account"`
	// Folder is what an address has after the account's name: "" or "/Surveys/2026".
	Folder string `json:"folder"`
	Role   string `json:"role"`
}

// Users returns all users, by name.
func (db *DB) Users(ctx context.Context) (users []User, err error) {
	err = db.read.WithContext(ctx).Order("name").Find(&users).Error
	return users, err
}

// User returns a user by id.
func (db *DB) User(ctx context.Context, id string) (user User, err error) {
	err = db.read.WithContext(ctx).Where("id = ?", id).First(&user).Error
	return user, found(err)
}

// UserNamed returns a user by name.
func (db *DB) UserNamed(ctx context.Context, name string) (user User, err error) {
	err = db.read.WithContext(ctx).Where("name = ?", name).First(&user).Error
	return user, found(err)
}

// UserOf returns the user that an OpenID provider knows by a subject.
func (db *DB) UserOf(ctx context.Context, issuer, subject string) (user User, err error) {
	err = db.read.WithContext(ctx).Where("issuer = ? AND subject = ? AND subject <> ''", issuer, subject).First(&user).Error
	return user, found(err)
}

// AddUser adds a user. ErrTaken if another has the name.
func (db *DB) AddUser(ctx context.Context, user *User) error {
	return found(db.write.WithContext(ctx).Create(user).Error)
}

// SaveUser saves columns of a user. ErrTaken if another has the name.
func (db *DB) SaveUser(ctx context.Context, user User, columns ...string) error {
	user.Recovery = append([]string{}, user.Recovery...) // never null
	return found(db.write.WithContext(ctx).Model(&user).Select(columns).Updates(user).Error)
}

// UseTOTP keeps that the one-time code of a step was used; false if it, or a later one, was
// used before.
func (db *DB) UseTOTP(ctx context.Context, id string, step int64) (bool, error) {
	result := db.write.WithContext(ctx).Exec("UPDATE users SET totp_step = ? WHERE id = ? AND totp_step < ?", step, id, step)
	return result.RowsAffected == 1, result.Error
}

// RemoveUser forgets a user with everything that lets the user in.
func (db *DB) RemoveUser(ctx context.Context, id string) error {
	return db.write.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, statement := range []string{"DELETE FROM grants WHERE user = ?", "DELETE FROM tokens WHERE user = ?",
			"DELETE FROM passkeys WHERE user = ?", "DELETE FROM worker_managers WHERE user = ?", "DELETE FROM users WHERE id = ?"} {
			if err := tx.Exec(statement, id).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Grants returns the grants of a user; of all users if the id is empty.
func (db *DB) Grants(ctx context.Context, user string) (grants []Grant, err error) {
	query := db.read.WithContext(ctx).Order("user, account, folder")
	if user != "" {
		query = query.Where("user = ?", user)
	}
	err = query.Find(&grants).Error
	return grants, err
}

// SetGrant adds a grant, or changes the role of the one at the same place.
func (db *DB) SetGrant(ctx context.Context, grant Grant) error {
	return db.write.WithContext(ctx).Exec("INSERT INTO grants (user, account, folder, role) VALUES (?, ?, ?, ?) "+
		"ON CONFLICT (user, account, folder) DO UPDATE SET role = excluded.role", grant.User, grant.Account, grant.Folder, grant.Role).Error
}

// RemoveGrant removes a grant; false if there was none.
func (db *DB) RemoveGrant(ctx context.Context, grant Grant) (bool, error) {
	result := db.write.WithContext(ctx).Exec("DELETE FROM grants WHERE user = ? AND account = ? AND folder = ?", grant.User, grant.Account,
		grant.Folder)
	return result.RowsAffected == 1, result.Error
}

// TokensOf returns the tokens and sessions of a user that have not expired, the newest first.
func (db *DB) TokensOf(ctx context.Context, user string, now time.Time) (tokens []Token, err error) {
	err = db.read.WithContext(ctx).Where("user = ? AND (expires_at IS NULL OR expires_at > ?)", user, now).
		Order("created_at DESC").Find(&tokens).Error
	return tokens, err
}

// ConfirmToken keeps that the user of a session has signed in again.
func (db *DB) ConfirmToken(ctx context.Context, id string, at time.Time) error {
	return db.write.WithContext(ctx).Model(&Token{}).Where("id = ?", id).Update("confirmed_at", at).Error
}
