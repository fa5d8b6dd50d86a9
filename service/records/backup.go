package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"deftheron/core/plan"
	"deftheron/core/run"
)

// CopyTo writes a copy of the database, as it is at one moment, to a file that must not
// exist. Others go on reading and writing.
func (db *DB) CopyTo(ctx context.Context, path string) error {
	if _, err := os.Lstat(path); err == nil {
		return os.ErrExist
	}
	pool, err := readOnly(db.path)
	if err != nil {
		return err
	}
	defer pool.Close()
	if _, err := pool.ExecContext(ctx, "VACUUM INTO ?", path); err != nil {
		return err
	}
	return os.Chmod(path, 0o600)
}

// Summary counts the content of a database.
type Summary struct {
	Instance                    string
	Accounts, Jobs, Runs, Users int64
}

// Summarize counts the content of a database file, which must be of this version.
func Summarize(ctx context.Context, path string) (summary Summary, err error) {
	pool, err := readOnly(path)
	if err != nil {
		return summary, err
	}
	defer pool.Close()
	err = pool.QueryRowContext(ctx, "SELECT (SELECT count(*) FROM accounts), (SELECT count(*) FROM jobs WHERE once = 0), "+
		"(SELECT count(*) FROM runs), (SELECT count(*) FROM users), coalesce((SELECT value FROM meta WHERE name = 'instance'), '')").
		Scan(&summary.Accounts, &summary.Jobs, &summary.Runs, &summary.Users, &summary.Instance)
	return summary, err
}

// CheckFile has SQLite check every page and index of a database file.
func CheckFile(ctx context.Context, path string) error {
	pool, err := readOnly(path)
	if err != nil {
		return err
	}
	defer pool.Close()
	var answer string
	if err := pool.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&answer); err != nil {
		return err
	}
	if answer != "ok" {
		return errors.New(answer)
	}
	return nil
}

func readOnly(path string) (*sql.DB, error) {
	escaped := strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(path)
	return sql.Open(driverName, "file:"+escaped+"?mode=ro&_busy_timeout=10000")
}

// Restored is what became of records that were brought back from a backup.
type Restored struct {
	// Paused are the runs that were open, and delete something, and wait for a person.
	Paused []string
	// Runs are those that go on by themselves.
	Runs int
}

// MetaRestored is the name under which it is kept when the records were made that were
// restored, and when that was.
const MetaRestored = "restored"

// MetaGeneration is the name under which it is kept how often the records were restored.
const MetaGeneration = "generation"

// MarkRestored has nothing believed any more that the records remember of places: they may
// have changed since the records were copied. Sign-ins to the console end, as some may have
// ended since. Open runs that delete something are paused.
func (db *DB) MarkRestored(ctx context.Context, made, now time.Time) (done Restored, err error) {
	open, err := db.OpenRuns(ctx)
	if err != nil {
		return done, err
	}
	return done, db.transaction(ctx, func(tx *sql.Tx) error {
		for _, statement := range []string{
			"UPDATE scopes SET place = '', token = '', next = '', ends = ''",
			"DELETE FROM tokens WHERE kind = 'session'",
		} {
			if _, err := tx.ExecContext(ctx, statement); err != nil {
				return fmt.Errorf("%s: %w", statement, err)
			}
		}
		for _, row := range open {
			if !row.Rules.Type.Removes() && !row.Rules.Clear {
				done.Runs++
				continue
			}
			done.Paused = append(done.Paused, row.ID)
			why := "the records were restored from a backup of " + made.UTC().Format("2006-01-02 15:04") + " UTC"
			if _, err := tx.ExecContext(ctx, "UPDATE runs SET state = ?, cause = ?, why = ? WHERE number = ?", run.Paused,
				string(plan.CauseRestored), why, row.Number); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO meta (name, value) VALUES (?, '1') ON CONFLICT DO UPDATE SET value = value + 1",
			MetaGeneration); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO meta (name, value) VALUES (?, ?)", MetaRestored,
			made.UTC().Format(time.RFC3339)+" "+now.UTC().Format(time.RFC3339))
		return err
	})
}
