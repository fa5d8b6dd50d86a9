package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"deftheron/core/run"
)

// runListSchema has what the lists and pages of runs are made from: progress, events, and
// the accounts of each run. Triggers keep the last two: no statement that changes the state of
// a run can forget its event.
var runListSchema = []string{
	"CREATE TABLE run_series (run INTEGER PRIMARY KEY, data BLOB NOT NULL)",
	// An event's number is its time in ms, times 8, and its place among those of one ms.
	`CREATE TABLE run_events (run INTEGER NOT NULL, number INTEGER NOT NULL, what TEXT NOT NULL, cause TEXT NOT NULL, detail TEXT NOT NULL,
		PRIMARY KEY (run, number)) WITHOUT ROWID`,
	`CREATE TRIGGER run_created AFTER INSERT ON runs BEGIN
		INSERT OR IGNORE INTO run_accounts (account, run) SELECT ` + accountOf + `, new.number
			FROM json_each(new.routes) AS route, (` + ends + `) AS ends;
	END`,
	`CREATE TRIGGER run_changed AFTER UPDATE OF state ON runs WHEN new.state <> old.state BEGIN
		INSERT OR IGNORE INTO run_events (run, number, what, cause, detail) SELECT new.number,
			` + nowMs + ` * 8 + CASE new.state WHEN 'queued' THEN 0 WHEN 'running' THEN 1 ELSE 2 END, new.state,
			CASE WHEN goes THEN '' ELSE coalesce(new.cause, '') END, CASE WHEN goes THEN '' ELSE coalesce(new.why, '') END
			FROM (SELECT new.state IN ('queued', 'running') AS goes);
	END`,
	`CREATE TRIGGER run_renamed AFTER UPDATE OF routes ON runs BEGIN
		DELETE FROM run_accounts WHERE account IN (SELECT ` + accountOf + ` FROM json_each(old.routes) AS route, (` + ends + `) AS ends) AND run = new.number;
		INSERT OR IGNORE INTO run_accounts (account, run) SELECT ` + accountOf + `, new.number FROM json_each(new.routes) AS route, (` + ends + `) AS ends;
	END`,
	"CREATE TABLE run_accounts (account TEXT NOT NULL, run INTEGER NOT NULL, PRIMARY KEY (account, run)) WITHOUT ROWID",
	`INSERT OR IGNORE INTO run_accounts (account, run) SELECT ` + accountOf + `, runs.number FROM runs, json_each(runs.routes) AS route,
		(` + ends + `) AS ends`,
	"CREATE TABLE run_flows (run INTEGER NOT NULL, source TEXT NOT NULL, target TEXT NOT NULL, bytes INTEGER NOT NULL, " +
		"PRIMARY KEY (run, source, target)) WITHOUT ROWID",
	"ALTER TABLE runs ADD COLUMN flowed INTEGER NOT NULL DEFAULT 0",
	"CREATE TABLE flow_days (day TEXT NOT NULL, job TEXT NOT NULL, source TEXT NOT NULL, target TEXT NOT NULL, bytes INTEGER NOT NULL, " +
		"runs INTEGER NOT NULL, PRIMARY KEY (day, job, source, target)) WITHOUT ROWID",
	`INSERT INTO flow_days (day, job, source, target, bytes, runs) SELECT date(created_at), ` + flowJob + `, ` + firstSource + `, ` +
		firstTarget + `,
		sum(moved), count(*) FROM runs WHERE moved > 0 GROUP BY 1, 2, 3, 4`,
	"UPDATE runs SET flowed = moved",
	// What a run between two accounts has transferred since it was last counted. KeepFlows
	// counts a run between several.
	`CREATE TRIGGER run_flowed AFTER UPDATE OF moved ON runs WHEN new.moved > new.flowed AND
		(SELECT count(DISTINCT ` + sourceOf + ` || ' ' || ` + targetOf + `) FROM json_each(new.routes) AS route) = 1 BEGIN
		INSERT INTO flow_days (day, job, source, target, bytes, runs) SELECT date('now'), ` + flowJob + `, ` + firstSource + `, ` + firstTarget + `,
			new.moved - new.flowed, new.flowed = 0 FROM runs WHERE number = new.number
			ON CONFLICT DO UPDATE SET bytes = bytes + excluded.bytes, runs = runs + excluded.runs;
		UPDATE runs SET flowed = new.moved WHERE number = new.number;
	END`,
	"CREATE INDEX runs_unwell ON runs (state, number) WHERE state IN " + unwell,
}

const nowMs = "CAST((julianday('now') - 2440587.5) * 86400000 AS INTEGER)"

// unwell are the states of ended runs that are few, and have an index.
const unwell = "('failed', 'partial', 'cancelled')"

const ends = "SELECT 'from' AS side UNION ALL SELECT 'to'"

// accountIn is the account of an address in SQL: "/desk/Office" is in the account desk.
func accountIn(address string) string {
	return "substr(" + address + ", 2, instr(substr(" + address + ", 2) || '/', '/') - 1)"
}

var (
	accountOf   = accountIn("json_extract(route.value, '$.' || ends.side)")
	sourceOf    = accountIn("json_extract(route.value, '$.from')")
	targetOf    = accountIn("json_extract(route.value, '$.to')")
	firstSource = accountIn("json_extract(runs.routes, '$[0].from')")
	firstTarget = accountIn("json_extract(runs.routes, '$[0].to')")
)

// flowJob is the job that flows are counted for: all single copies and moves together are "".
const flowJob = "CASE runs.type WHEN '' THEN '' ELSE runs.job END"

// Series returns the progress of a run; an empty one if none is kept.
func (db *DB) Series(ctx context.Context, run int64) (series run.Series, err error) {
	var data []byte
	err = db.readPool.QueryRowContext(ctx, "SELECT data FROM run_series WHERE run = ?", run).Scan(&data)
	if errors.Is(err, sql.ErrNoRows) {
		return series, nil
	}
	if err != nil {
		return series, err
	}
	return series, json.Unmarshal(data, &series)
}

// SaveSeries keeps the progress of a run.
func (db *DB) SaveSeries(ctx context.Context, run int64, series run.Series) error {
	data, err := json.Marshal(series)
	if err != nil {
		return err
	}
	return db.write.WithContext(ctx).Exec("INSERT OR REPLACE INTO run_series (run, data) VALUES (?, ?)", run, data).Error
}

// Event is something that happened to a run: it came into a state, or a person changed it.
type Event struct {
	At     time.Time
	What   string // a state, or one of the changes below
	Cause  string
	Detail string
}

// What happens to a run besides its states.
const (
	EventBandwidth = "bandwidth"
	EventPriority  = "priority"
	EventApproved  = "approved"
	// EventAnnotations says how many tags and comments were carried over.
	EventAnnotations = "annotations"
)

// AddEvent keeps a change of a run.
func (db *DB) AddEvent(ctx context.Context, run int64, what, detail string) error {
	return db.write.WithContext(ctx).Exec("INSERT OR REPLACE INTO run_events (run, number, what, cause, detail) VALUES (?, ?, ?, '', ?)", run,
		time.Now().UnixMilli()*8+7, what, detail).Error
}

// Events returns the latest events of a run, the oldest first. Its creation is none of them.
func (db *DB) Events(ctx context.Context, run int64, most int) (events []Event, err error) {
	rows, err := db.readPool.QueryContext(ctx,
		"SELECT * FROM (SELECT number, what, cause, detail FROM run_events WHERE run = ? ORDER BY number "+
			"DESC LIMIT ?) ORDER BY number", run, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one Event
		var number int64
		if err := rows.Scan(&number, &one.What, &one.Cause, &one.Detail); err != nil {
			return nil, err
		}
		one.At = time.UnixMilli(number / 8)
		events = append(events, one)
	}
	return events, rows.Err()
}
