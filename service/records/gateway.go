package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"deftheron/core/store"
)

// MostProperties is how many properties are kept of the entries of an account.
const MostProperties = 20_000

// ErrTooManyProperties is the error if an account has MostProperties already.
var ErrTooManyProperties = errors.New("too many properties")

// Property is a property that a WebDAV client has set of an entry and that means nothing to the
// service (RFC 4918, section 4.4).
type Property struct {
	// Name of the entry in its folder; it ends with a slash if the entry is a folder.
	Name string
	// Space is the namespace of the property, and Local its name there.
	Space, Local string
	// XML is the element with its content; empty of a property to be removed.
	XML string
}

// GatewayLock is a lock of a WebDAV client.
type GatewayLock struct {
	Token string `gorm:"primaryKey"`
	// Address of the locked entry; Deep is set if everything in it is locked, too.
	Address string
	Deep    bool
	Shared  bool
	// Owner is what the client says of its owner, as XML.
	Owner    string
	User, By string
	Expires  time.Time
	// Made is set if the service's own lock on the entry was made with this one, and ends with it.
	Made bool
}

var gatewaySchema = []string{
	`CREATE TABLE properties (
		account TEXT NOT NULL, folder BLOB NOT NULL, name BLOB NOT NULL, space TEXT NOT NULL, local TEXT NOT NULL, xml TEXT NOT NULL,
		PRIMARY KEY (account, folder, name, space, local)) WITHOUT ROWID`,
	`CREATE TABLE gateway_locks (
		token TEXT PRIMARY KEY, address TEXT NOT NULL, deep INTEGER NOT NULL, shared INTEGER NOT NULL, owner TEXT NOT NULL, user TEXT NOT NULL,
		by TEXT NOT NULL, expires DATETIME NOT NULL, made INTEGER NOT NULL) WITHOUT ROWID`,
}

// propertyKey is the name of an entry as properties have it.
func propertyKey(place store.Ref) []byte {
	if place.Kind == store.KindFolder {
		return []byte(place.Name + "/")
	}
	return []byte(place.Name)
}

// Properties returns the properties of an entry.
func (db *DB) Properties(ctx context.Context, account string, place store.Ref) ([]Property, error) {
	return db.properties(ctx, "account = ? AND folder = ? AND name = ?", account, []byte(place.Folder.Path), propertyKey(place))
}

// PropertiesIn returns the properties of all entries directly in a folder.
func (db *DB) PropertiesIn(ctx context.Context, account string, folder store.Path) ([]Property, error) {
	return db.properties(ctx, "account = ? AND folder = ?", account, []byte(folder))
}

func (db *DB) properties(ctx context.Context, where string, args ...any) (all []Property, err error) {
	rows, err := db.readPool.QueryContext(ctx, "SELECT name, space, local, xml FROM properties WHERE "+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one Property
		var name []byte
		if err := rows.Scan(&name, &one.Space, &one.Local, &one.XML); err != nil {
			return nil, err
		}
		one.Name = string(name)
		all = append(all, one)
	}
	return all, rows.Err()
}

// SetProperties sets and removes properties of an entry, all or none.
func (db *DB) SetProperties(ctx context.Context, account string, place store.Ref, changes []Property) error {
	folder, name := []byte(place.Folder.Path), propertyKey(place)
	return db.transaction(ctx, func(tx *sql.Tx) error {
		for _, one := range changes {
			var err error
			if one.XML == "" {
				_, err = tx.ExecContext(ctx, "DELETE FROM properties WHERE account = ? AND folder = ? AND name = ? AND space = ? AND local = ?",
					account, folder, name, one.Space, one.Local)
			} else {
				_, err = tx.ExecContext(ctx, "INSERT OR REPLACE INTO properties (account, folder, name, space, local, xml) VALUES (?, ?, ?, ?, ?, ?)",
					account, folder, name, one.Space, one.Local, one.XML)
			}
			if err != nil {
				return err
			}
		}
		var count int
		if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM properties WHERE account = ?", account).Scan(&count); err != nil {
			return err
		}
		if count > MostProperties {
			return ErrTooManyProperties
		}
		return nil
	})
}

// DropProperties removes the properties of an entry, and of everything in it.
func (db *DB) DropProperties(ctx context.Context, account string, place store.Ref) error {
	return db.transaction(ctx, func(tx *sql.Tx) error { return dropProperties(ctx, tx, account, place) })
}

func dropProperties(ctx context.Context, tx *sql.Tx, account string, place store.Ref) error {
	_, err := tx.ExecContext(ctx, "DELETE FROM properties WHERE account = ? AND folder = ? AND name = ?", account, []byte(place.Folder.Path),
		propertyKey(place))
	if err != nil || place.Kind != store.KindFolder {
		return err
	}
	path := place.AsFolder().Path
	_, err = tx.ExecContext(ctx, "DELETE FROM properties WHERE account = ? AND folder >= ? AND folder < ?", account, []byte(path),
		append([]byte(path), 0xff))
	return err
}

// CopyProperties replaces the properties of an entry, and of everything in it, by those of another entry
// of its kind. It leaves out properties beyond MostProperties.
func (db *DB) CopyProperties(ctx context.Context, account string, from store.Ref, toAccount string, to store.Ref) error {
	to = to.As(from.Kind)
	return db.transaction(ctx, func(tx *sql.Tx) error {
		if err := dropProperties(ctx, tx, toAccount, to); err != nil {
			return err
		}
		var count int
		if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM properties WHERE account = ?", toAccount).Scan(&count); err != nil {
			return err
		}
		const into = "INSERT OR REPLACE INTO properties (account, folder, name, space, local, xml) "
		result, err := tx.ExecContext(ctx, into+"SELECT ?, ?, ?, space, local, xml FROM properties WHERE account = ? AND folder = ? AND "+
			"name = ? LIMIT ?", toAccount, []byte(to.Folder.Path), propertyKey(to), account, []byte(from.Folder.Path), propertyKey(from),
			MostProperties-count)
		if err != nil || from.Kind != store.KindFolder {
			return err
		}
		copied, err := result.RowsAffected()
		if err != nil {
			return err
		}
		source, target := from.AsFolder().Path, to.AsFolder().Path
		_, err = tx.ExecContext(ctx, into+"SELECT ?, CAST(? || substr(folder, ?) AS BLOB), name, space, local, xml FROM properties "+
			"WHERE account = ? AND folder >= ? AND folder < ? LIMIT ?", toAccount, []byte(target), len(source)+1, account, []byte(source),
			append([]byte(source), 0xff), max(0, int64(MostProperties-count)-copied))
		return err
	})
}

// GatewayLocks returns the locks of all clients, expired ones included.
func (db *DB) GatewayLocks(ctx context.Context) (locks []GatewayLock, err error) {
	return locks, db.read.WithContext(ctx).Order("token").Find(&locks).Error
}

// SetGatewayLock adds a lock, or renews it.
func (db *DB) SetGatewayLock(ctx context.Context, lock GatewayLock) error {
	return db.write.WithContext(ctx).Save(&lock).Error
}

// RemoveGatewayLock ends a lock.
func (db *DB) RemoveGatewayLock(ctx context.Context, token string) error {
	return db.write.WithContext(ctx).Delete(&GatewayLock{}, "token = ?", token).Error
}
