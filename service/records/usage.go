package records

import (
	"context"
	"database/sql"
	"time"
)

// usageSchema has what each account was used for in each interval.
var usageSchema = []string{
	// slot is the number of the interval since 1970.
	`CREATE TABLE account_usage (account TEXT NOT NULL, slot INTEGER NOT NULL, requests INTEGER NOT NULL, slowed INTEGER NOT NULL,
		up INTEGER NOT NULL, down INTEGER NOT NULL, PRIMARY KEY (account, slot)) WITHOUT ROWID`,
}

const (
	// UsageEvery is the length of an interval of usage.
	UsageEvery = 10 * time.Minute
	// usageFor is how long usage is kept.
	usageFor = 60 * 24 * time.Hour
)

// Usage is what an account was used for in an interval.
type Usage struct {
	Account  string    // its id
	At       time.Time // the start of the interval
	Requests int64
	Slowed   int64 // requests that were answered with "slow down"
	Up, Down int64 // bytes over the network, to and from the account
}

// IsZero reports whether nothing was done.
func (u Usage) IsZero() bool { return u.Requests == 0 && u.Slowed == 0 && u.Up == 0 && u.Down == 0 }

func slotOf(at time.Time) int64 { return at.Unix() / int64(UsageEvery/time.Second) }

// AddUsage adds to what accounts were used for, in the intervals of their times.
func (db *DB) AddUsage(ctx context.Context, used []Usage) error {
	return db.each(ctx, `INSERT INTO account_usage (account, slot, requests, slowed, up, down) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET requests = requests + excluded.requests, slowed = slowed + excluded.slowed, up = up + excluded.up,
			down = down + excluded.down`, len(used), func(i int) []any {
		u := used[i]
		return []any{u.Account, slotOf(u.At), u.Requests, u.Slowed, u.Up, u.Down}
	})
}

// Usages returns what an account was used for since a moment, the oldest first. Intervals in
// which nothing was done are left out.
func (db *DB) Usages(ctx context.Context, account string, since time.Time) (usages []Usage, err error) {
	rows, err := db.readPool.QueryContext(ctx, "SELECT slot, requests, slowed, up, down FROM account_usage WHERE account = ? AND slot >= ? "+
		"ORDER BY slot", account, slotOf(since))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		one := Usage{Account: account}
		var slot int64
		if err := rows.Scan(&slot, &one.Requests, &one.Slowed, &one.Up, &one.Down); err != nil {
			return nil, err
		}
		one.At = time.Unix(slot*int64(UsageEvery/time.Second), 0)
		usages = append(usages, one)
	}
	return usages, rows.Err()
}

// thinUsage forgets what an account was used for longer ago than usage is kept.
func thinUsage(ctx context.Context, tx *sql.DB, account string, now time.Time) error {
	_, err := tx.ExecContext(ctx, "DELETE FROM account_usage WHERE account = ? AND slot < ?", account, slotOf(now.Add(-usageFor)))
	return err
}
