package records

import (
	"context"
	"time"
)

var workerManagersSchema = []string{
	"CREATE TABLE worker_managers (worker TEXT NOT NULL, user TEXT NOT NULL, created_at DATETIME NOT NULL, PRIMARY KEY (worker, user))",
	"CREATE INDEX worker_managers_user ON worker_managers (user)",
}

// WorkerManager is a user who manages a worker, by the ids of both.
type WorkerManager struct {
	Worker, User string
	Name         string // of the user
}

// WorkerManagers returns the managers of all workers, by their names.
func (db *DB) WorkerManagers(ctx context.Context) (managers []WorkerManager, err error) {
	return managers, db.read.WithContext(ctx).Raw(`SELECT m.worker, m.user, u.name FROM worker_managers m JOIN users u ON u.id = m.user
		ORDER BY u.name`).Scan(&managers).Error
}

// ManagesWorker reports whether a user manages the worker of a name.
func (db *DB) ManagesWorker(ctx context.Context, user, name string) (manages bool, err error) {
	return manages, db.read.WithContext(ctx).Raw(`SELECT EXISTS (SELECT 1 FROM workers w JOIN worker_managers m ON m.worker = w.id AND m.user = ?
		WHERE w.name = ?)`, user, name).Scan(&manages).Error
}

// AssignWorker makes a user a manager of a worker. It is no error if the user is one already.
func (db *DB) AssignWorker(ctx context.Context, worker, user string, now time.Time) error {
	return db.write.WithContext(ctx).Exec("INSERT INTO worker_managers (worker, user, created_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING",
		worker, user, now).Error
}

// UnassignWorker removes a user from the managers of a worker.
func (db *DB) UnassignWorker(ctx context.Context, worker, user string) error {
	return db.write.WithContext(ctx).Exec("DELETE FROM worker_managers WHERE worker = ? AND user = ?", worker, user).Error
}
