package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/run"
)

// Route is a route as it is kept: addresses, and the scope of its pairs.
type Route struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Scope string `json:"scope"`
	// Contents is transfer.Route.Contents.
	Contents string `json:"contents,omitempty"`
}

// Job is a job.
type Job struct {
	ID        string
	Name      string
	Type      string
	Routes    []Route    `gorm:"serializer:json"`
	Rules     plan.Rules `gorm:"serializer:json"`
	CreatedAt time.Time
	// OneOff is set if the job was created for one run, and is not needed after it.
	OneOff bool `gorm:"column:once"`
	// Spec is a kept job as it was written, but for its routes.
	Spec      job.Spec `gorm:"serializer:json"`
	Suspended bool
	// SeenAt is up to when its timetable was seen to.
	SeenAt    *time.Time
	ChangedAt *time.Time
	// Owner is the id of the user in whose name the job runs: who made or changed it last.
	Owner string
	// WatchedAt is the time from which arrivals are looked for; nil: not yet.
	WatchedAt *time.Time
}

// Run is one execution of a job.
type Run struct {
	Number int64  `gorm:"primaryKey"`
	ID     string // what people call it
	Job    string // the job's name
	Type   string // of the job
	Step   string // of a migration, which of its steps it is
	// Places are those that the run is about; none: all of its routes.
	Places []Place `gorm:"serializer:json"`
	// StartedBy is what had the run begin, in words.
	StartedBy string
	// Approved is set if a person has approved the run, whatever its safety limits say.
	Approved bool
	State    run.State
	Cause    string
	Why      string
	Routes   []Route    `gorm:"serializer:json"`
	Rules    plan.Rules `gorm:"serializer:json"`
	// Planned is set if the plan is complete, and Totals are its totals.
	Planned bool
	Totals  plan.Totals `gorm:"serializer:json"`
	// Cancelling is set if a person cancelled the run; it may not have ended yet.
	Cancelling    bool
	Items         int64
	Done          int64
	Skipped       int64
	Failed        int64
	Removed       int64 // of those done
	Unchanged     int64
	Bytes         int64
	Moved         int64
	Interruptions int64
	// Workers are those that have copied for the run; the rest was copied by the service.
	Workers   []CarriedBy `gorm:"serializer:json"`
	CreatedAt time.Time
	StartedAt *time.Time
	EndedAt   *time.Time
}

// CarriedBy counts what a worker has copied for a run.
type CarriedBy struct {
	Worker string `json:"worker"` // its name
	Items  int64  `json:"items"`
	Bytes  int64  `json:"bytes"`
	Now    int64  `json:"-"` // items that it has in its hands
}

// Ended reports whether the run has ended.
func (r Run) Ended() bool { return r.EndedAt != nil }

// Needs returns what the run needs before it can go on.
func (r Run) Needs() run.Need { return run.Needs(r.State, plan.Cause(r.Cause)) }

// AddRun adds a job and its first run in one transaction.
func (db *DB) AddRun(ctx context.Context, job *Job, run *Run) error {
	tx := db.write.WithContext(ctx).Begin()
	defer tx.Rollback()
	if err := tx.Create(job).Error; err != nil {
		return found(err)
	}
	if err := tx.Create(run).Error; err != nil {
		return found(err)
	}
	return tx.Commit().Error
}

// Run returns the run of an id.
func (db *DB) Run(ctx context.Context, id string) (run Run, err error) {
	err = db.read.WithContext(ctx).Where("id = ?", id).First(&run).Error
	return run, found(err)
}

// OpenRuns returns the runs that have not ended, oldest first.
func (db *DB) OpenRuns(ctx context.Context) (runs []Run, err error) {
	err = db.read.WithContext(ctx).Table("runs INDEXED BY runs_open").Where("ended_at IS NULL").Order("number").Find(&runs).Error
	return runs, err
}

// CountHeld counts the runs that wait for a person.
func (db *DB) CountHeld(ctx context.Context) (held int64, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT count(*) FROM runs INDEXED BY runs_open WHERE ended_at IS NULL AND state = ?",
		run.Held).Scan(&held)
	return held, err
}

// SaveRun keeps a run as it is now; of columns, if they are given, only those.
func (db *DB) SaveRun(ctx context.Context, run Run, columns ...string) error {
	query := db.write.WithContext(ctx).Model(&run)
	if len(columns) > 0 {
		if err := query.Statement.Parse(&run); err != nil {
			return err
		}
		for _, column := range columns { // GORM leaves out what it does not know
			if query.Statement.Schema.LookUpField(column) == nil {
				return fmt.Errorf("runs have no column %q", column)
			}
		}
		query = query.Select(columns)
	}
	return query.Updates(run).Error
}

// CauseCount is how many items of a run ended with a cause.
type CauseCount struct {
	State string
	Cause string
	Items int64
	Bytes int64
}

// CauseCounts counts the items of a run that have a cause, by state and cause. Items
// without one are in the run's own totals.
func (db *DB) CauseCounts(ctx context.Context, run int64) (counts []CauseCount, err error) {
	err = db.read.WithContext(ctx).Raw(
		`SELECT state, cause, count(*) AS items, sum(max(size, 0)) AS bytes FROM items INDEXED BY items_causes WHERE run = ? AND cause <> '' AND NOT (`+halves+`)
		 GROUP BY state, cause ORDER BY state, items DESC`, run).Scan(&counts).Error
	return counts, err
}

// PauseRun makes a run paused, unless it has ended.
func (db *DB) PauseRun(ctx context.Context, row Run) error {
	return db.write.WithContext(ctx).Exec("UPDATE runs SET state = ? WHERE number = ? AND ended_at IS NULL", run.Paused, row.Number).Error
}

// ResumeRun queues a run that waits for a person, and reports whether it waited: of several
// callers at the same time only one gets true.
func (db *DB) ResumeRun(ctx context.Context, row Run) (bool, error) {
	result := db.write.WithContext(ctx).Exec("UPDATE runs SET state = ? WHERE number = ? AND state IN ?", run.Queued, row.Number,
		run.Before(run.Resume))
	return result.RowsAffected == 1, result.Error
}

// Retry makes a run that has ended one that has not: its items that failed, that were
// locked, or that were left when it was cancelled, wait again. It returns how many, and
// ErrNotFound where the run has not ended, or no longer: of several that retry it
// at once, one does.
func (db *DB) Retry(ctx context.Context, row *Run) (items int64, err error) {
	err = db.transaction(ctx, func(tx *sql.Tx) error {
		taken, err := tx.ExecContext(ctx, "UPDATE runs SET state = ?, cause = '', why = '', cancelling = 0, ended_at = NULL WHERE number = ? "+
			"AND ended_at IS NOT NULL", run.Queued, row.Number)
		if err != nil {
			return err
		}
		if n, err := taken.RowsAffected(); err != nil || n == 0 {
			return errors.Join(ErrNotFound, err)
		}
		result, err := tx.ExecContext(ctx, `UPDATE items SET state = 'waiting', cause = '', why = '', ended = 0, attempts = 0
			WHERE run = ? AND (state = 'failed' OR state = 'skipped' AND cause IN (?, ?))`, row.Number, string(plan.CauseCancelled),
			string(plan.CauseLocked))
		if err != nil {
			return err
		}
		items, err = result.RowsAffected()
		return err
	})
	row.State, row.Cause, row.Why, row.Cancelling, row.EndedAt = run.Queued, "", "", false, nil
	return items, err
}
