package records

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"deftheron/core/history"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

// historyWriter writes changes of one transaction: what it counts, and which folders had
// something overwritten, deleted or moved, is written at its end.
type historyWriter struct {
	tx       *sql.Tx
	accounts map[string]int64
	parts    map[partID]int64
	counts   map[int64]HistoryCount
	folders  map[folderID]int64
	clocks   map[int64]*clock
}

// clock is when an account was changed last, and by how much the clock of the machine is
// behind that.
type clock struct {
	last   int64
	behind int64
}

// backBy is by how much the clock has to have jumped back to be corrected: runs that go at once
// are written down in turns.
const backBy = int64(time.Minute)

// timeOf is the time of a change in the order of its account: a clock that jumps back does not
// have what came later come before.
func (n *historyWriter) timeOf(ctx context.Context, account int64, at time.Time) (int64, error) {
	c := n.clocks[account]
	if c == nil {
		c = &clock{}
		if err := n.tx.QueryRowContext(ctx, "SELECT last FROM history_accounts WHERE number = ?", account).Scan(&c.last); err != nil {
			return 0, err
		}
		if behind := c.last - at.UnixNano(); behind > backBy {
			c.behind = behind + 1
		}
		n.clocks[account] = c
	}
	corrected := at.UnixNano() + c.behind
	c.last = max(c.last, corrected)
	return corrected, nil
}

type folderID struct {
	account int64
	folder  string
}

type partID struct {
	account int64
	name    string
}

func newHistoryWriter(tx *sql.Tx) *historyWriter {
	return &historyWriter{tx, map[string]int64{}, map[partID]int64{}, map[int64]HistoryCount{}, map[folderID]int64{}, map[int64]*clock{}}
}

// end writes the collected changes.
func (n *historyWriter) end(ctx context.Context) error {
	for account, clock := range n.clocks {
		if _, err := n.tx.ExecContext(ctx, "UPDATE history_accounts SET last = ? WHERE number = ?", clock.last, account); err != nil {
			return err
		}
	}
	for account, count := range n.counts {
		if _, err := n.tx.ExecContext(ctx, "UPDATE history_accounts SET versions = versions + ?, bytes = bytes + ? WHERE number = ?",
			count.Versions, count.Bytes, account); err != nil {
			return err
		}
	}
	for id, last := range n.folders {
		if _, err := n.tx.ExecContext(ctx, `INSERT INTO history_folders (account, folder, last) VALUES (?, ?, ?)
			ON CONFLICT DO UPDATE SET last = max(last, excluded.last)`, id.account, []byte(id.folder), last); err != nil {
			return err
		}
	}
	return nil
}

// count counts versions of an account, more or fewer.
func (n *historyWriter) count(account, versions, bytes int64) {
	count := n.counts[account]
	n.counts[account] = HistoryCount{count.Versions + versions, count.Bytes + bytes}
}

// account returns the number of an account, by its name.
func (n *historyWriter) account(ctx context.Context, name string) (number int64, err error) {
	if number, ok := n.accounts[name]; ok {
		return number, nil
	}
	var id string
	err = n.tx.QueryRowContext(ctx, "SELECT id FROM accounts WHERE name = ?", name).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, ErrNotFound
	}
	if err != nil {
		return 0, err
	}
	if _, err = n.tx.ExecContext(ctx, "INSERT OR IGNORE INTO history_accounts (id) VALUES (?)", id); err != nil {
		return 0, err
	}
	err = n.tx.QueryRowContext(ctx, "SELECT number FROM history_accounts WHERE id = ?", id).Scan(&number)
	n.accounts[name] = number
	return number, err
}

// part returns the number of a part, which it makes where there is none.
func (n *historyWriter) part(ctx context.Context, account int64, name, run, job string) (number int64, err error) {
	id := partID{account, name}
	if number, ok := n.parts[id]; ok {
		return number, nil
	}
	began, _, _ := history.ParsePart(name)
	if _, err = n.tx.ExecContext(ctx, "INSERT OR IGNORE INTO history_parts (account, name, run, job, began) VALUES (?, ?, ?, ?, ?)", account,
		name, run, job, nanoseconds(began)); err != nil {
		return 0, err
	}
	err = n.tx.QueryRowContext(ctx, "SELECT number FROM history_parts WHERE account = ? AND name = ?", account, name).Scan(&number)
	n.parts[id] = number
	return number, err
}

// partOf is the part that a change belongs to.
func partOf(change *history.Change, began time.Time) string {
	if rest, below := strings.CutPrefix(string(change.Kept), string(store.HistoryFolder)); below {
		part, _, _ := strings.Cut(rest, "/")
		return part
	}
	return history.PartName(began, change.At, change.Run)
}

const insertChange = `INSERT INTO history (account, folder, name, at, since, how, size, modified, hash, kept, moved_to, part, locked, manifest, enforced, version, revision)
	VALUES (?1, ?2, ?3, ?4, CASE WHEN ?5 <> 0 THEN ?5 ELSE coalesce((SELECT max(at) FROM history WHERE account = ?1 AND folder = ?2 AND
		name = ?3 AND at < ?4), 0) END, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17)`

// saveChanges adds the changes of endings.
func saveChanges(ctx context.Context, tx *sql.Tx, run string, endings []transfer.Ending) error {
	writer := newHistoryWriter(tx)
	var began time.Time
	for i := range endings {
		for j := range endings[i].Changes {
			change := &endings[i].Changes[j]
			if began.IsZero() {
				if err := tx.QueryRowContext(ctx, "SELECT created_at FROM runs WHERE id = ?", run).Scan(&began); err != nil {
					return err
				}
			}
			account, err := writer.account(ctx, change.Account)
			if err != nil {
				return err
			}
			at, err := writer.timeOf(ctx, account, change.At)
			if err != nil {
				return err
			}
			change.At = time.Unix(0, at)
			part, err := writer.part(ctx, account, partOf(change, began), change.Run, change.Job)
			if err != nil {
				return err
			}
			if err := writer.add(ctx, account, part, 0, change); err != nil {
				return err
			}
		}
	}
	return writer.end(ctx)
}

func (n *historyWriter) add(ctx context.Context, account, part, manifest int64, change *history.Change) error {
	folder, name := splitKey(change.Path)
	_, err := n.tx.ExecContext(ctx, insertChange, account, folder, name, nanoseconds(change.At), nanoseconds(change.Since),
		string(change.How), change.Size, nanoseconds(change.Modified), change.Hash, orNull(change.Kept), orNull(change.To), part,
		nanoseconds(change.Locked), manifest, change.Enforced, change.Version, change.Revision)
	if change.HasContent() {
		n.count(account, 1, max(0, change.Size))
	}
	if change.How != history.Created && change.How != history.Thinned && change.How != history.Superseded {
		id := folderID{account, string(folder)}
		n.folders[id] = max(n.folders[id], nanoseconds(change.At))
	}
	return err
}
