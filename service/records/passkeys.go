package records

import (
	"context"
	"time"
)

// Passkey is a credential of a user by Web Authentication (W3C).
type Passkey struct {
	ID   string // of the credential, in base64url
	User string
	Name string
	// Credential is the data needed to check its answers, in JSON.
	Credential string
	CreatedAt  time.Time
	SeenAt     *time.Time
}

// Passkeys returns the passkeys of a user, the oldest first; of all users if the id is empty.
func (db *DB) Passkeys(ctx context.Context, user string) (keys []Passkey, err error) {
	query := db.read.WithContext(ctx).Order("created_at")
	if user != "" {
		query = query.Where("user = ?", user)
	}
	err = query.Find(&keys).Error
	return keys, err
}

// AddPasskey adds a passkey. ErrTaken if there is one of the id.
func (db *DB) AddPasskey(ctx context.Context, key *Passkey) error {
	return found(db.write.WithContext(ctx).Create(key).Error)
}

// UsePasskey saves the state of a passkey after a use.
func (db *DB) UsePasskey(ctx context.Context, id, credential string, at time.Time) error {
	return db.write.WithContext(ctx).Exec("UPDATE passkeys SET credential = ?, seen_at = ? WHERE id = ?", credential, at, id).Error
}

// RemovePasskey removes a passkey of a user; false if there was none.
func (db *DB) RemovePasskey(ctx context.Context, user, id string) (bool, error) {
	result := db.write.WithContext(ctx).Exec("DELETE FROM passkeys WHERE user = ? AND id = ?", user, id)
	return result.RowsAffected == 1, result.Error
}
