package index

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"deftheron/core/plan"
	"deftheron/core/query"
	"deftheron/core/store"
	"deftheron/core/tree"
)

const (
	// MostRanked is how many hits are ranked. Beyond it, the newest come first.
	MostRanked = 10_000
	// patience is how long a search may take.
	patience = 2 * time.Second
	// excerptWidth is about how many bytes an excerpt has.
	excerptWidth = 200
)

// Asked is what is looked for.
type Asked struct {
	Query query.Query
	// In are folders in which it is looked for; none is everywhere.
	In []store.Address
	// Types are endings such as pdf, or the types of plan.TypeOf, such as documents.
	Types []string
	Kind  store.Kind // empty for any
	// Newer and Older bound when a file was changed; zero is without a bound.
	Newer, Older time.Time
	// Larger and Smaller bound the size in bytes; less than 0 is without a bound.
	Larger, Smaller int64
	// Only, if not nil, are the ids of the entries among which it is looked for, see
	// [Index.IDs]; without a query, all of them are found.
	Only []int64
	// After is where the page before ended; empty begins.
	After Cursor
	Most  int // hits of a page
}

// Cursor is where a page ended.
type Cursor struct {
	At int   `json:"n,omitempty"` // of those ranked
	ID int64 `json:"i,omitempty"` // of the newest first
}

// Hit is one entry that was found.
type Hit struct {
	Address  store.Address
	Name     string
	Kind     store.Kind
	Size     int64
	Modified time.Time
	// Excerpt is of the text; nil if only the name was found.
	Excerpt query.Found
}

// Results are a page of hits.
type Results struct {
	Hits []Hit
	// Next is where the next page begins; nil if this is the last.
	Next *Cursor
	// Found is how many there are before filters and grants, up to MostRanked; More says that
	// there are more than that, and the newest come first.
	Found int
	More  bool
	// Cut says that it took too long, and the page may hold less than there is.
	Cut bool
}

// Search looks for files. What the scope of the context hides is not found.
func (x *Index) Search(ctx context.Context, asked Asked) (Results, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	s := &search{Index: x, asked: asked, places: map[int64]place{}, names: map[int64]string{}}
	results, err := s.run(ctx)
	if errors.Is(err, context.DeadlineExceeded) || err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		results.Cut, err = true, nil
	}
	return results, err
}

// search is one that goes on.
type search struct {
	*Index
	asked  Asked
	places map[int64]place  // of folders
	names  map[int64]string // of accounts
	only   string           // the ids of asked.Only as a list of JSON; empty for all
}

// among is the condition that a row is one of asked.Only, with its arguments.
func (s *search) among(arguments ...any) (condition string, all []any) {
	if s.only == "" {
		return "", arguments
	}
	return " AND rowid IN (SELECT value FROM json_each(?))", append(arguments, s.only)
}

func (s *search) run(ctx context.Context) (Results, error) {
	if s.asked.Only != nil {
		text, err := json.Marshal(s.asked.Only)
		if err != nil {
			return Results{}, err
		}
		s.only = string(text)
	}
	if s.asked.After.ID == 0 {
		found, err := s.count(ctx)
		if err != nil {
			return Results{}, err
		}
		if found <= MostRanked {
			results, err := s.ranked(ctx)
			results.Found = found
			return results, err
		}
	}
	results, err := s.newest(ctx)
	results.Found, results.More = MostRanked, true
	return results, err
}

// matches returns what is looked for in the index of words, and in that of parts of names;
// each is empty if it finds nothing.
func (s *search) matches() (words, parts string) {
	if s.asked.Query.IsZero() {
		return "", ""
	}
	parts, _ = s.asked.Query.Parts()
	return s.asked.Query.Match(), parts
}

// count returns how many match, as far as they are ranked. What matches in both indexes
// counts once for the larger of the two.
func (s *search) count(ctx context.Context) (most int, err error) {
	words, parts := s.matches()
	if words == "" && parts == "" {
		return len(s.asked.Only), nil
	}
	for table, match := range map[string]string{"words": words, "parts": parts} {
		if match == "" {
			continue
		}
		n := 0
		among, arguments := s.among(match)
		if err := s.db.read.QueryRowContext(ctx, "SELECT count(*) FROM (SELECT rowid FROM "+table+" WHERE "+table+" MATCH ?"+among+" LIMIT ?)",
			append(arguments, MostRanked+1)...).Scan(&n); err != nil {
			return 0, err
		}
		most = max(most, n)
	}
	return most, nil
}

// ids returns what a statement yields.
func (s *search) ids(ctx context.Context, statement string, arguments ...any) (all []int64, err error) {
	rows, err := s.db.read.QueryContext(ctx, statement, arguments...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		all = append(all, id)
	}
	return all, rows.Err()
}

// best returns the best matches, up to a number, and whether there may be more: first by
// words, of which one in the name counts ten times as much as one in the text, then by parts
// of names.
func (s *search) best(ctx context.Context, most int) (all []int64, more bool, err error) {
	words, parts := s.matches()
	if words == "" && parts == "" {
		all = slices.Clone(s.asked.Only)
		slices.SortFunc(all, func(a, b int64) int { return cmp.Compare(b, a) })
		return all[:min(len(all), most)], len(all) > most, nil
	}
	if words != "" {
		among, arguments := s.among(words)
		all, err = s.ids(ctx, "SELECT rowid FROM words WHERE words MATCH ? AND rank MATCH 'bm25(1.0, 10.0)'"+among+" ORDER BY rank LIMIT ?",
			append(arguments, most)...)
		if err != nil || len(all) == most || parts == "" {
			return all, len(all) == most, err
		}
	}
	if parts == "" {
		return all, false, nil
	}
	among, arguments := s.among(parts)
	byParts, err := s.ids(ctx, "SELECT rowid FROM parts WHERE parts MATCH ?"+among+" ORDER BY rowid DESC LIMIT ?", append(arguments, most)...)
	known := make(map[int64]bool, len(all))
	for _, id := range all {
		known[id] = true
	}
	for _, id := range byParts {
		if !known[id] {
			all = append(all, id)
		}
	}
	return all, len(byParts) == most, err
}

// ranked returns a page of the best matches. With filters that let few through, more of them
// are looked at.
func (s *search) ranked(ctx context.Context) (results Results, err error) {
	at := s.asked.After.At
	for most := 500 + 2*at; ; most *= 4 {
		all, more, err := s.best(ctx, most)
		if err != nil {
			return results, err
		}
		for ; at < len(all); at++ {
			hit, ok, err := s.hit(ctx, all[at])
			if err != nil {
				return results, err
			}
			if !ok {
				continue
			}
			if len(results.Hits) == s.asked.Most {
				results.Next = &Cursor{At: at}
				return results, nil
			}
			results.Hits = append(results.Hits, hit)
		}
		if !more {
			return results, nil
		}
	}
}

// newest returns a page of what matches, the largest ids first, which are the newest.
func (s *search) newest(ctx context.Context) (results Results, err error) {
	before := s.asked.After.ID
	if before == 0 {
		before = 1<<62 - 1
	}
	for {
		ids, err := s.idsBefore(ctx, before)
		if err != nil {
			return results, err
		}
		for _, id := range ids {
			hit, ok, err := s.hit(ctx, id)
			if err != nil {
				return results, err
			}
			if before = id; !ok {
				continue
			}
			results.Hits = append(results.Hits, hit)
			if len(results.Hits) == s.asked.Most {
				results.Next = &Cursor{ID: id}
				return results, nil
			}
		}
		if len(ids) == 0 {
			return results, nil
		}
	}
}

// idsBefore returns some ids of what matches below one, the largest first.
func (s *search) idsBefore(ctx context.Context, before int64) (all []int64, err error) {
	const page = 200
	complete := int64(0) // from it on, all are there
	words, parts := s.matches()
	for table, match := range map[string]string{"words": words, "parts": parts} {
		if match == "" {
			continue
		}
		among, arguments := s.among(match, before)
		ids, err := s.ids(ctx, "SELECT rowid FROM "+table+" WHERE "+table+" MATCH ? AND rowid < ?"+among+" ORDER BY rowid DESC LIMIT ?",
			append(arguments, page)...)
		if err != nil {
			return nil, err
		}
		if len(ids) == page {
			complete = max(complete, ids[page-1])
		}
		all = append(all, ids...)
	}
	all = slices.DeleteFunc(all, func(id int64) bool { return id < complete })
	slices.SortFunc(all, func(a, b int64) int { return cmp.Compare(b, a) })
	return slices.Compact(all), nil
}

// hit returns an entry, if the filters and the scope of the context let it through.
func (s *search) hit(ctx context.Context, id int64) (hit Hit, ok bool, err error) {
	var one row
	var of int64
	err = one.scan(func(into ...any) error {
		return s.db.read.QueryRowContext(ctx, "SELECT "+columns+", account FROM entries WHERE id = ?", id).Scan(append(into, &of)...)
	})
	if errors.Is(err, sql.ErrNoRows) || err == nil && (one.parent == doomed || !s.asked.passes(&one)) {
		return hit, false, nil
	}
	if err != nil {
		return hit, false, err
	}
	name, err := s.accountName(ctx, of)
	if err != nil || name == "" {
		return hit, false, err
	}
	address := store.Address{Account: name}
	if one.parent == 0 { // an account's start has its account's name
		return hit, false, nil
	}
	if address.Steps, ok, err = s.pathOf(ctx, one.parent, s.places); !ok || err != nil {
		return hit, false, err
	}
	address = withStep(address, one)
	if !s.asked.within(address) || tree.Sees(ctx, address) != tree.Seen {
		return hit, false, nil
	}
	hit = Hit{Address: address, Name: one.name, Kind: one.kind, Size: one.size}
	if one.modified != 0 {
		hit.Modified = time.Unix(one.modified, 0)
	}
	if one.state == textRead {
		text, err := keptText(ctx, s.db.read, id)
		if err != nil {
			return hit, false, err
		}
		hit.Excerpt = query.Excerpt(text, s.asked.Query.Terms(), excerptWidth)
	}
	return hit, true, nil
}

func (s *search) accountName(ctx context.Context, id int64) (string, error) {
	if name, known := s.names[id]; known {
		return name, nil
	}
	var name string
	err := s.db.read.QueryRowContext(ctx, "SELECT name FROM accounts WHERE id = ?", id).Scan(&name)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	s.names[id] = name
	return name, err
}

// Passes reports whether a hit passes the filters and is in one of the folders.
func (a *Asked) Passes(hit Hit) bool {
	one := row{name: hit.Name, folder: hit.Kind == store.KindFolder, kind: hit.Kind, size: hit.Size}
	if !hit.Modified.IsZero() {
		one.modified = hit.Modified.Unix()
	}
	return a.passes(&one) && a.within(hit.Address)
}

// within reports whether an entry is in one of the folders that were asked for.
func (a *Asked) within(address store.Address) bool {
	return len(a.In) == 0 || slices.ContainsFunc(a.In, func(folder store.Address) bool { return folder.Contains(address) })
}

// passes reports whether an entry passes the filters that need no address.
func (a *Asked) passes(one *row) bool {
	switch {
	case a.Kind != "" && one.kind != a.Kind,
		!a.Newer.IsZero() && one.modified < a.Newer.Unix(),
		!a.Older.IsZero() && one.modified >= a.Older.Unix(),
		a.Larger >= 0 && one.size <= a.Larger,
		a.Smaller >= 0 && (one.size >= a.Smaller || one.size < 0):
		return false
	case len(a.Types) == 0:
		return true
	case one.folder:
		return false
	}
	ending := strings.TrimPrefix(strings.ToLower(path.Ext(one.name)), ".")
	return slices.ContainsFunc(a.Types, func(wanted string) bool {
		return wanted == ending || wanted == plan.TypeOf(one.name) || wanted == "documents" && one.kind == store.KindDocument
	})
}
