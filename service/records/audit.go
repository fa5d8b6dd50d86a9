package records

import (
	"context"
	"database/sql"
	"errors"
	"iter"
	"strings"
	"time"
)

// AuditEntry is one line of the audit log. What each part means is said by contract.AuditEntry.
type AuditEntry struct {
	Seq                                                int64
	At                                                 time.Time
	User, Kind, From, Client, Action, Subject, Outcome string
	Times                                              int64
	MAC                                                []byte
}

const auditColumns = `seq, at, user, kind, "from", client, action, subject, outcome, times, mac`

func scanAudit(scan func(...any) error) (entry AuditEntry, err error) {
	var at int64
	err = scan(&entry.Seq, &at, &entry.User, &entry.Kind, &entry.From, &entry.Client, &entry.Action, &entry.Subject, &entry.Outcome,
		&entry.Times, &entry.MAC)
	entry.At = time.UnixMilli(at).UTC()
	return entry, err
}

// AppendAudit adds entries, with their numbers, and keeps a value under a name with them.
func (db *DB) AppendAudit(ctx context.Context, entries []AuditEntry, name, value string) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		for _, one := range entries {
			if _, err := tx.ExecContext(ctx, "INSERT INTO audit ("+auditColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", one.Seq,
				one.At.UnixMilli(), one.User, one.Kind, one.From, one.Client, one.Action, one.Subject, one.Outcome, one.Times, one.MAC); err != nil {
				return err
			}
		}
		return setMeta(ctx, tx, name, value)
	})
}

func setMeta(ctx context.Context, tx *sql.Tx, name, value string) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO meta (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
		name, value)
	return err
}

// LastAudit returns the last entry; its zero value if there is none.
func (db *DB) LastAudit(ctx context.Context) (AuditEntry, error) {
	entry, err := scanAudit(db.readPool.QueryRowContext(ctx, "SELECT "+auditColumns+" FROM audit ORDER BY seq DESC LIMIT 1").Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return AuditEntry{}, nil
	}
	return entry, err
}

// LastAuditBefore returns the last entry before the first one that is not older than a time; the zero
// value if there is none. Entries are in the order in which they were written, which is about the order
// of their times.
func (db *DB) LastAuditBefore(ctx context.Context, before time.Time) (last AuditEntry, err error) {
	for entry, err := range db.Audit(ctx) {
		if err != nil || !entry.At.Before(before) {
			return last, err
		}
		last = entry
	}
	return last, nil
}

// ThinAudit removes the entries up to a number, and keeps a value under a name with that.
func (db *DB) ThinAudit(ctx context.Context, last int64, name, value string) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		if err := setMeta(ctx, tx, name, value); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM audit WHERE seq <= ?", last)
		return err
	})
}

// Audit yields all entries in the order in which they were written.
func (db *DB) Audit(ctx context.Context) iter.Seq2[AuditEntry, error] {
	return func(yield func(AuditEntry, error) bool) {
		rows, err := db.readPool.QueryContext(ctx, "SELECT "+auditColumns+" FROM audit ORDER BY seq")
		if err != nil {
			yield(AuditEntry{}, err)
			return
		}
		defer rows.Close()
		for rows.Next() {
			entry, err := scanAudit(rows.Scan)
			if !yield(entry, err) || err != nil {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(AuditEntry{}, err)
		}
	}
}

// AuditFilter chooses entries; its zero value takes all.
type AuditFilter struct {
	User, Action string
	// Text is in the subject or the outcome, without regard to case.
	Text string
}

// auditStep is how many entries a filter by text looks at before it returns what it found.
const auditStep = 50_000

// FindAudit returns a page of the entries that a filter takes, before a number (0: the latest),
// newest first, and the number to go on before; 0 at the end. A page of a filter by text may have
// fewer than most, or none, and still go on.
func (db *DB) FindAudit(ctx context.Context, filter AuditFilter, before int64, most int) (entries []AuditEntry, next int64, err error) {
	if before == 0 {
		last, err := db.LastAudit(ctx)
		if err != nil {
			return nil, 0, err
		}
		before = last.Seq + 1
	}
	where, args := []string{"seq < ?"}, []any{before}
	from, low := "audit", int64(0)
	switch {
	case filter.User != "":
		from, where, args = "audit INDEXED BY audit_user", append(where, "user = ?"), append(args, filter.User)
	case filter.Action != "":
		from = "audit INDEXED BY audit_action"
	}
	if filter.Action != "" {
		where, args = append(where, "action = ?"), append(args, filter.Action)
	}
	if filter.Text != "" || filter.User != "" && filter.Action != "" {
		low = max(1, before-auditStep)
		where, args = append(where, "seq >= ?"), append(args, low)
	}
	if filter.Text != "" {
		like := "%" + escapeLike(filter.Text) + "%"
		where, args = append(where, "(subject LIKE ? ESCAPE '!' OR outcome LIKE ? ESCAPE '!')"), append(args, like, like)
	}
	rows, err := db.readPool.QueryContext(ctx, "SELECT "+auditColumns+" FROM "+from+" WHERE "+strings.Join(where, " AND ")+
		" ORDER BY seq DESC LIMIT ?", append(args, most)...)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		entry, err := scanAudit(rows.Scan)
		if err != nil {
			return nil, 0, err
		}
		entries = append(entries, entry)
	}
	switch {
	case len(entries) == most && most > 0:
		next = entries[most-1].Seq
	case low > 1:
		next = low
	}
	return entries, next, rows.Err()
}
