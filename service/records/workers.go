package records

import (
	"context"
	"database/sql"
	"time"
)

var workersSchema = []string{
	`CREATE TABLE workers (
		id TEXT PRIMARY KEY, name TEXT NOT NULL UNIQUE, site TEXT NOT NULL, code BLOB, code_ends DATETIME, key TEXT NOT NULL DEFAULT '',
		recipient TEXT NOT NULL DEFAULT '', version TEXT NOT NULL DEFAULT '', system TEXT NOT NULL DEFAULT '', address TEXT NOT NULL DEFAULT '',
		draining INTEGER NOT NULL DEFAULT 0, created_at DATETIME NOT NULL, joined_at DATETIME, seen_at DATETIME)`,
	"CREATE UNIQUE INDEX workers_key ON workers (key) WHERE key <> ''",
	"CREATE UNIQUE INDEX workers_code ON workers (code) WHERE code IS NOT NULL",
	"CREATE INDEX workers_site ON workers (site)",
	"ALTER TABLE accounts ADD COLUMN site TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE accounts ADD COLUMN worker TEXT NOT NULL DEFAULT ''",
}

var workerGrantsSchema = []string{
	"ALTER TABLE workers ADD COLUMN distrusted TEXT NOT NULL DEFAULT ''",
	"CREATE TABLE worker_grants (worker TEXT NOT NULL, account TEXT NOT NULL, created_at DATETIME NOT NULL, PRIMARY KEY (worker, account))",
	"CREATE INDEX worker_grants_account ON worker_grants (account)",
	"ALTER TABLE runs ADD COLUMN workers TEXT",
}

// Worker is a machine that works for the service.
type Worker struct {
	ID   string
	Name string
	// Site is the network that it is in.
	Site string
	// Code is the SHA-256 hash of the code with which it joins, until CodeEnds; nil for none.
	Code     []byte
	CodeEnds *time.Time
	// Key is its public NKey and Recipient its age recipient; empty until it has joined.
	Key, Recipient string
	// Version, System and Address are what was seen of it last.
	Version, System, Address string
	Draining                 bool
	// Distrusted is why nothing is given to it; empty if it is trusted.
	Distrusted       string
	CreatedAt        time.Time
	JoinedAt, SeenAt *time.Time
}

// Workers returns all workers, by name.
func (db *DB) Workers(ctx context.Context) (workers []Worker, err error) {
	err = db.read.WithContext(ctx).Order("name").Find(&workers).Error
	return workers, err
}

// Worker returns a worker by name.
func (db *DB) Worker(ctx context.Context, name string) (worker Worker, err error) {
	err = db.read.WithContext(ctx).Where("name = ?", name).First(&worker).Error
	return worker, found(err)
}

// WorkerByKey returns a worker by its public key.
func (db *DB) WorkerByKey(ctx context.Context, key string) (worker Worker, err error) {
	err = db.read.WithContext(ctx).Where("key = ? AND key <> ''", key).First(&worker).Error
	return worker, found(err)
}

// SeeWorker records when a worker that has joined was seen, and where it came from, and returns it.
// ErrNotFound if it was removed.
func (db *DB) SeeWorker(ctx context.Context, seen Worker) (worker Worker, err error) {
	err = db.write.WithContext(ctx).Exec("UPDATE workers SET seen_at = ?, version = ?, system = ?, address = ? WHERE id = ? AND key <> ''",
		seen.SeenAt, seen.Version, seen.System, seen.Address, seen.ID).Error
	if err == nil {
		err = db.read.WithContext(ctx).Where("id = ? AND key <> ''", seen.ID).First(&worker).Error
	}
	return worker, found(err)
}

// AddWorker adds a worker. ErrTaken if another has the name.
func (db *DB) AddWorker(ctx context.Context, worker *Worker) error {
	return found(db.write.WithContext(ctx).Create(worker).Error)
}

// SaveWorker saves columns of a worker. ErrTaken if another has the name.
func (db *DB) SaveWorker(ctx context.Context, worker Worker, columns ...string) error {
	return found(db.write.WithContext(ctx).Model(&worker).Select(columns).Updates(worker).Error)
}

// JoinWorker gives the worker whose code it is, by its hash, its keys, and uses the code up.
// ErrNotFound if no worker has the code, or it has ended.
func (db *DB) JoinWorker(ctx context.Context, code []byte, now time.Time, joined Worker) (worker Worker, err error) {
	result := db.write.WithContext(ctx).Exec(`UPDATE workers SET code = NULL, code_ends = NULL, key = ?, recipient = ?, version = ?,
		system = ?, address = ?, joined_at = ?, seen_at = ? WHERE code = ? AND code_ends > ?`,
		joined.Key, joined.Recipient, joined.Version, joined.System, joined.Address, now, now, code, now)
	if result.Error != nil {
		return worker, found(result.Error)
	}
	if result.RowsAffected == 0 {
		return worker, ErrNotFound
	}
	return db.WorkerByKey(ctx, joined.Key)
}

// RemoveWorker forgets a worker, what it was granted, and who manages it.
func (db *DB) RemoveWorker(ctx context.Context, id string) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		for _, statement := range []string{"DELETE FROM worker_grants WHERE worker = ?", "DELETE FROM worker_managers WHERE worker = ?",
			"DELETE FROM workers WHERE id = ?"} {
			if _, err := tx.ExecContext(ctx, statement, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// WorkerGrant lets a worker have an account that the service reaches, by the ids of both.
type WorkerGrant struct {
	Worker, Account string
	Name            string // of the account
}

// WorkerGrants returns all grants, by the names of the accounts.
func (db *DB) WorkerGrants(ctx context.Context) (grants []WorkerGrant, err error) {
	return grants, db.read.WithContext(ctx).Raw(`SELECT g.worker, g.account, a.name FROM worker_grants g JOIN accounts a ON a.id = g.account
		ORDER BY a.name`).Scan(&grants).Error
}

// GrantWorker grants an account to a worker. That it was granted already is no error.
func (db *DB) GrantWorker(ctx context.Context, worker, account string, now time.Time) error {
	return db.write.WithContext(ctx).Exec("INSERT INTO worker_grants (worker, account, created_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING",
		worker, account, now).Error
}

// RevokeWorker takes an account back from a worker.
func (db *DB) RevokeWorker(ctx context.Context, worker, account string) error {
	return db.write.WithContext(ctx).Exec("DELETE FROM worker_grants WHERE worker = ? AND account = ?", worker, account).Error
}

// AccountsAtSite returns the accounts that are reached from a site, by name; of all sites if it is
// empty.
func (db *DB) AccountsAtSite(ctx context.Context, site string) (accounts []Account, err error) {
	query := db.read.WithContext(ctx).Order("name")
	if site == "" {
		query = query.Where("site <> ''")
	} else {
		query = query.Where("site = ?", site)
	}
	return accounts, query.Find(&accounts).Error
}
