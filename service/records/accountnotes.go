package records

import (
	"context"
	"database/sql"
	"errors"
)

// accountNoteSchema has short texts that providers keep about accounts.
var accountNoteSchema = []string{
	`CREATE TABLE account_notes (account TEXT NOT NULL, name TEXT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (account, name)) WITHOUT ROWID`,
}

// AccountNote returns a text about an account, by its id; empty where there is none.
func (db *DB) AccountNote(ctx context.Context, account, name string) (text string, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT text FROM account_notes WHERE account = ? AND name = ?", account, name).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return text, err
}

// SaveAccountNote keeps a text about an account; the empty one removes it.
func (db *DB) SaveAccountNote(ctx context.Context, account, name, text string) error {
	if text == "" {
		_, err := db.writePool.ExecContext(ctx, "DELETE FROM account_notes WHERE account = ? AND name = ?", account, name)
		return err
	}
	_, err := db.writePool.ExecContext(ctx, "INSERT INTO account_notes (account, name, text) VALUES (?, ?, ?) "+
		"ON CONFLICT DO UPDATE SET text = excluded.text", account, name, text)
	return err
}
