package records

import (
	"context"
	"database/sql"
	"errors"
	"iter"
	"slices"
	"strings"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

// routedPair is a pair with the route whose scope it is in.
type routedPair struct {
	route int
	pair  *compare.Pair
}

func pairsOf(endings []transfer.Ending) []routedPair {
	pairs := make([]routedPair, 0, len(endings))
	for i := range endings {
		if endings[i].Pair != nil {
			pairs = append(pairs, routedPair{endings[i].Route, endings[i].Pair})
		}
		for j := range endings[i].Also {
			pairs = append(pairs, routedPair{endings[i].Route, &endings[i].Also[j]})
		}
	}
	return pairs
}

// known counts how many files of scopes have pairs more, or fewer.
type known map[int64]int64

// count counts the pair of a file, unless it belongs to a settled conflict.
func (k known) count(scope int64, key store.Key, kept bool, n int64) {
	if !kept && !strings.HasSuffix(string(key), "/") {
		k[scope] += n
	}
}

func (k known) save(ctx context.Context, tx *sql.Tx) error {
	for scope, n := range k {
		if _, err := tx.ExecContext(ctx, "UPDATE scopes SET known = known + ? WHERE number = ?", n, scope); err != nil {
			return err
		}
	}
	return nil
}

func forgetIn(ctx context.Context, tx *sql.Tx, scopes []int64, endings []transfer.Ending) error {
	some := slices.ContainsFunc(endings, func(ending transfer.Ending) bool { return len(ending.Forget) > 0 })
	if !some {
		return nil
	}
	remove, err := tx.PrepareContext(ctx, "DELETE FROM pairs WHERE scope = ? AND key = ? RETURNING kept")
	if err != nil {
		return err
	}
	defer remove.Close()
	known := known{}
	for _, ending := range endings {
		for _, key := range ending.Forget {
			var kept bool
			err := remove.QueryRowContext(ctx, scopes[ending.Route], []byte(key)).Scan(&kept)
			if errors.Is(err, sql.ErrNoRows) {
				continue
			}
			if err != nil {
				return err
			}
			known.count(scopes[ending.Route], key, kept, -1)
		}
	}
	return known.save(ctx, tx)
}

const pairColumns = `source_revision, source_size, source_time, target_revision, target_size, target_time, kept, run, target_key, mark, verification, target_mark, digest`

// savePairs adds pairs, or overwrites the pairs of the same keys, and counts the new ones.
func savePairs(ctx context.Context, tx *sql.Tx, scopes []int64, pairs []routedPair) error {
	ctx = uncancelled(ctx)
	add, err := tx.PrepareContext(ctx, "INSERT OR IGNORE INTO pairs ("+pairColumns+
		", scope, key) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")
	if err != nil {
		return err
	}
	defer add.Close()
	known := known{}
	for _, one := range pairs {
		pair, scope := one.pair, scopes[one.route]
		args := []any{
			pair.Source.Revision, pair.Source.Size, nanoseconds(pair.Source.Modified), pair.Target.Revision, pair.Target.Size,
			nanoseconds(pair.Target.Modified),
			pair.Kept, pair.Run, orNull(pair.To), pair.Mark, pair.Verification, pair.TargetMark, pair.Digest, scope, []byte(pair.Key),
		}
		result, err := add.ExecContext(ctx, args...)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 1 {
			known.count(scope, pair.Key, pair.Kept, 1)
			continue
		}
		var kept bool
		if err := tx.QueryRowContext(ctx, "SELECT kept FROM pairs WHERE scope = ? AND key = ?", scope, []byte(pair.Key)).Scan(&kept); err != nil {
			return err
		}
		known.count(scope, pair.Key, kept, -1)
		known.count(scope, pair.Key, pair.Kept, 1)
		if _, err := tx.ExecContext(ctx, "UPDATE pairs SET ("+pairColumns+
			") = (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) WHERE scope = ? AND key = ?", args...); err != nil {
			return err
		}
	}
	return known.save(ctx, tx)
}

func numberScopes(ctx context.Context, tx *sql.Tx, scopes []string) ([]int64, error) {
	numbers := make([]int64, len(scopes))
	for i, scope := range scopes {
		err := tx.QueryRowContext(ctx, "SELECT number FROM scopes WHERE name = ?", scope).Scan(&numbers[i])
		if errors.Is(err, sql.ErrNoRows) {
			err = tx.QueryRowContext(ctx, "INSERT INTO scopes (name) VALUES (?) RETURNING number", scope).Scan(&numbers[i])
		}
		if err != nil {
			return nil, err
		}
	}
	return numbers, nil
}

// Find implements transfer.Records.
func (db *DB) Find(ctx context.Context, scope, mark string, back bool) (*plan.Origin, error) {
	var origin plan.Origin
	// The indexes are named: without statistics the planner takes the primary key,
	// of which the scope alone is given, and reads all pairs of it.
	query := `SELECT coalesce(target_key, key), target_revision, verification FROM pairs INDEXED BY pairs_mark
		WHERE scope = (SELECT number FROM scopes WHERE name = ?) AND mark = ? AND mark <> '' AND kept = 0 LIMIT 1`
	if back {
		query = `SELECT key, source_revision, verification FROM pairs INDEXED BY pairs_target_mark
		WHERE scope = (SELECT number FROM scopes WHERE name = ?) AND target_mark = ? AND target_mark <> '' AND kept = 0 LIMIT 1`
	}
	err := db.readPool.QueryRowContext(ctx, query, scope, mark).Scan((*keyBytes)(&origin.Key), &origin.Revision, &origin.Hash)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &origin, err
}

// Pair implements transfer.Records.
func (db *DB) Pair(ctx context.Context, scope string, key store.Key) (*compare.Pair, error) {
	return db.onePair(ctx, "pairs WHERE key", scope, key)
}

// PairTo implements transfer.Records.
func (db *DB) PairTo(ctx context.Context, scope string, to store.Key) (*compare.Pair, error) {
	return db.onePair(ctx, "pairs INDEXED BY pairs_target_key WHERE target_key", scope, to)
}

func (db *DB) onePair(ctx context.Context, where, scope string, key store.Key) (*compare.Pair, error) {
	pairs, err := db.pairs(ctx, where+" = ? AND scope = (SELECT number FROM scopes WHERE name = ?) LIMIT 1", []byte(key), scope)
	if err != nil || len(pairs) == 0 {
		return nil, err
	}
	return &pairs[0], nil
}

// pairsPage is how many pairs are read at a time.
const pairsPage = 2000

// Pairs implements transfer.Records: page by page, so that no reading stands
// open while the run writes.
func (db *DB) Pairs(ctx context.Context, scope string) iter.Seq2[compare.Pair, error] {
	return func(yield func(compare.Pair, error) bool) {
		var number int64
		err := db.readPool.QueryRowContext(ctx, "SELECT number FROM scopes WHERE name = ?", scope).Scan(&number)
		if errors.Is(err, sql.ErrNoRows) {
			return
		}
		after := []byte{}
		for err == nil {
			var page []compare.Pair
			if page, err = db.pairsPage(ctx, number, after, len(after) == 0); err != nil {
				break
			}
			for _, pair := range page {
				if !yield(pair, nil) {
					return
				}
			}
			if len(page) < pairsPage {
				return
			}
			after = []byte(page[len(page)-1].Key)
		}
		yield(compare.Pair{}, err)
	}
}

func (db *DB) pairsPage(ctx context.Context, scope int64, after []byte, first bool) ([]compare.Pair, error) {
	than := ">"
	if first {
		than = ">=" // the empty key, of a single file, comes first
	}
	return db.pairs(ctx, "pairs WHERE scope = ? AND key "+than+" ? ORDER BY key LIMIT ?", scope, after, pairsPage)
}

// PairsUnder implements transfer.Records.
func (db *DB) PairsUnder(ctx context.Context, scope string, path store.Path) iter.Seq2[compare.Pair, error] {
	return func(yield func(compare.Pair, error) bool) {
		folder := []byte(path)
		file := folder[:len(folder)-1]
		end := append(slices.Clone(file), '/'+1) // the first key that is not below
		// Two statements: of one with both, the planner reads all pairs up to them.
		page, err := db.pairs(ctx, "pairs WHERE scope = (SELECT number FROM scopes WHERE name = ?) AND key = ? LIMIT ?", scope, file, pairsPage)
		for from := folder; ; {
			if err != nil {
				yield(compare.Pair{}, err)
				return
			}
			for _, pair := range page {
				if !yield(pair, nil) {
					return
				}
			}
			if from == nil {
				return
			}
			page, err = db.pairs(ctx, "pairs WHERE scope = (SELECT number FROM scopes WHERE name = ?) AND key >= ? AND key < ? ORDER BY key LIMIT ?",
				scope, from, end, pairsPage)
			if from = nil; len(page) == pairsPage {
				from = append([]byte(page[len(page)-1].Key), 0)
			}
		}
	}
}

// Epoch implements transfer.Records.
func (db *DB) Epoch(ctx context.Context, scope string) (epoch transfer.Epoch, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT place, token, next, ends FROM scopes WHERE name = ?", scope).
		Scan(&epoch.Place, &epoch.Token, &epoch.Next, &epoch.Ends)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return epoch, err
}

// SetEpoch implements transfer.Records.
func (db *DB) SetEpoch(ctx context.Context, scope string, epoch transfer.Epoch) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO scopes (name, place, token, next, ends) VALUES (?, ?, ?, ?, ?) ON CONFLICT (name)
			DO UPDATE SET place = excluded.place, token = excluded.token, next = excluded.next, ends = excluded.ends`,
			scope, epoch.Place, epoch.Token, epoch.Next, epoch.Ends)
		return err
	})
}

// ForgetScope removes the pairs of two places between which no run copies again, a number at a
// time.
func (db *DB) ForgetScope(ctx context.Context, scope string) error {
	const number = "(SELECT number FROM scopes WHERE name = ?)"
	for {
		result, err := db.writePool.ExecContext(ctx, "DELETE FROM pairs WHERE scope = "+number+
			" AND key IN (SELECT key FROM pairs WHERE scope = "+number+" ORDER BY key LIMIT ?)", scope, scope, forgottenAtOnce)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			break
		}
	}
	_, err := db.writePool.ExecContext(ctx, "DELETE FROM scopes WHERE name = ?", scope)
	return err
}

// forgottenAtOnce is how many pairs one statement drops.
const forgottenAtOnce = 5000

// DistrustPairs implements transfer.Records.
func (db *DB) DistrustPairs(ctx context.Context, scope string) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		const in = "scope = (SELECT number FROM scopes WHERE name = ?)"
		if _, err := tx.ExecContext(ctx, "DELETE FROM pairs WHERE "+in+" AND kept = 1", scope); err != nil {
			return err
		}
		nothing := compare.Nothing
		_, err := tx.ExecContext(ctx, `UPDATE pairs SET source_revision = ?, source_size = ?, source_time = 0, target_revision = ?, target_size = ?,
			target_time = 0, run = '', mark = '', target_mark = '', verification = '', digest = '' WHERE `+in, nothing.Revision, nothing.Size, nothing.Revision, nothing.Size, scope)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "UPDATE scopes SET place = '', token = '', next = '', ends = '' WHERE name = ?", scope)
		return err
	})
}

// Known implements transfer.Records.
func (db *DB) Known(ctx context.Context, scope string) (files int64, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT known FROM scopes WHERE name = ?", scope).Scan(&files)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return files, err
}

func (db *DB) pairs(ctx context.Context, from string, args ...any) ([]compare.Pair, error) {
	rows, err := db.readPool.QueryContext(ctx, `SELECT key, source_revision, source_size, source_time,
		target_revision, target_size, target_time, kept, run, target_key, mark, verification, target_mark, digest FROM `+from, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var page []compare.Pair
	for rows.Next() {
		var pair compare.Pair
		err := rows.Scan((*keyBytes)(&pair.Key), &pair.Source.Revision, &pair.Source.Size, scannedTime{&pair.Source.Modified},
			&pair.Target.Revision, &pair.Target.Size, scannedTime{&pair.Target.Modified}, &pair.Kept, &pair.Run,
			(*keyBytes)(&pair.To), &pair.Mark, &pair.Verification, &pair.TargetMark, &pair.Digest)
		if err != nil {
			return nil, err
		}
		page = append(page, pair)
	}
	return page, rows.Err()
}
