package index

import (
	"cmp"
	"context"
	"database/sql"
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
	// Only, where it is not nil, are the only entries that are looked at: those with a tag.
	Only func(store.Address) bool
	// After is where the page before ended; empty begins.
	After Cursor
	Most  int // hits of a page
}

// Cursor is where a page ended.
type Cursor struct {
	Ranked   bool  `json:"r,omitempty"`
	At       int   `json:"n,omitempty"` // of those ranked
	Modified int64 `json:"m,omitempty"` // of the newest first
	ID       int64 `json:"i,omitempty"`
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

// candidate is an entry that matches the query.
type candidate struct {
	id   int64
	rank float64
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
}

func (s *search) run(ctx context.Context) (Results, error) {
	if s.asked.After.ID == 0 {
		all, more, err := s.candidates(ctx)
		if err != nil {
			return Results{}, err
		}
		if !more {
			return s.ranked(ctx, all)
		}
	}
	results, err := s.newest(ctx)
	results.Found, results.More = MostRanked, true
	return results, err
}

// candidates returns what matches the query, best first. more says that there is too much to
// be ranked.
func (s *search) candidates(ctx context.Context) (all []candidate, more bool, err error) {
	ranks := map[int64]float64{}
	collect := func(statement, match string) error {
		rows, err := s.db.read.QueryContext(ctx, statement, match, MostRanked+1)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var one candidate
			if err := rows.Scan(&one.id, &one.rank); err != nil {
				return err
			}
			ranks[one.id] = min(ranks[one.id], one.rank)
		}
		return rows.Err()
	}
	if match := s.asked.Query.Match(); match != "" {
		n, err := s.count(ctx, match)
		if err != nil || n > MostRanked {
			return nil, true, err
		}
		// A word in the name counts ten times as much as one in the text.
		if err := collect("SELECT rowid, bm25(words, 10.0, 1.0) FROM words WHERE words MATCH ? LIMIT ?", match); err != nil {
			return nil, false, err
		}
	}
	if parts, ok := s.asked.Query.Parts(); ok {
		if err := collect("SELECT rowid, 0.0 FROM parts WHERE parts MATCH ? LIMIT ?", parts); err != nil {
			return nil, false, err
		}
	}
	if len(ranks) > MostRanked {
		return nil, true, nil
	}
	all = make([]candidate, 0, len(ranks))
	for id, rank := range ranks {
		all = append(all, candidate{id, rank})
	}
	slices.SortFunc(all, func(a, b candidate) int { return cmp.Or(cmp.Compare(a.rank, b.rank), cmp.Compare(b.id, a.id)) })
	return all, false, nil
}

// count returns how many match, as far as they are ranked.
func (s *search) count(ctx context.Context, match string) (n int, err error) {
	return n, s.db.read.QueryRowContext(ctx, "SELECT count(*) FROM (SELECT rowid FROM words WHERE words MATCH ? LIMIT ?)", match,
		MostRanked+1).Scan(&n)
}

// ranked returns a page of candidates.
func (s *search) ranked(ctx context.Context, all []candidate) (Results, error) {
	results := Results{Found: len(all)}
	for at := min(s.asked.After.At, len(all)); at < len(all); at++ {
		hit, ok, err := s.hit(ctx, all[at].id)
		if err != nil {
			return results, err
		}
		if !ok {
			continue
		}
		if len(results.Hits) == s.asked.Most {
			results.Next = &Cursor{Ranked: true, At: at}
			break
		}
		results.Hits = append(results.Hits, hit)
	}
	return results, nil
}

// newest returns a page of what matches, by the time of change: the entries are looked at
// from the newest on, as many match.
func (s *search) newest(ctx context.Context) (results Results, err error) {
	const page = 500
	match := s.asked.Query.Match()
	parts, byParts := s.asked.Query.Parts()
	after := s.asked.After
	if after.ID == 0 {
		after.Modified = 1<<62 - 1
	}
	var tests []string
	var arguments []any
	if match != "" {
		tests, arguments = append(tests, "EXISTS (SELECT 1 FROM words WHERE words MATCH ? AND words.rowid = e.id)"), append(arguments, match)
	}
	if byParts {
		tests, arguments = append(tests, "EXISTS (SELECT 1 FROM parts WHERE parts MATCH ? AND parts.rowid = e.id)"), append(arguments, parts)
	}
	statement := "SELECT e.id, e.modified, (" + strings.Join(tests, " OR ") + ") FROM entries e WHERE e.parent >= 0 AND (e.modified, e.id) < (?, ?) " +
		"ORDER BY e.modified DESC, e.id DESC LIMIT ?"
	for {
		rows, err := s.db.read.QueryContext(ctx, statement, append(slices.Clone(arguments), after.Modified, after.ID, page)...)
		if err != nil {
			return results, err
		}
		var matching []Cursor
		n := 0
		for rows.Next() {
			var matches bool
			if err := rows.Scan(&after.ID, &after.Modified, &matches); err != nil {
				rows.Close()
				return results, err
			}
			if n++; matches {
				matching = append(matching, after)
			}
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return results, err
		}
		for _, one := range matching {
			hit, ok, err := s.hit(ctx, one.ID)
			if err != nil {
				return results, err
			}
			if !ok {
				continue
			}
			results.Hits = append(results.Hits, hit)
			if len(results.Hits) == s.asked.Most {
				results.Next = &Cursor{Modified: one.Modified, ID: one.ID}
				return results, nil
			}
		}
		if n < page {
			return results, nil
		}
	}
}

// hit returns an entry, if the filters and the scope of the context let it through.
func (s *search) hit(ctx context.Context, id int64) (hit Hit, ok bool, err error) {
	var one row
	var of int64
	err = one.scan(func(into ...any) error {
		return s.db.read.QueryRowContext(ctx, "SELECT "+columns+", account FROM entries WHERE id = ?", id).Scan(append(into, &of)...)
	})
	if errors.Is(err, sql.ErrNoRows) || err == nil && (one.parent == doomed || !s.passes(&one)) {
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
	if !s.within(address) || tree.Sees(ctx, address) != tree.Seen || s.asked.Only != nil && !s.asked.Only(address) {
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

// within reports whether an entry is in one of the folders that were asked for.
func (s *search) within(address store.Address) bool {
	return len(s.asked.In) == 0 || slices.ContainsFunc(s.asked.In, func(folder store.Address) bool { return folder.Contains(address) })
}

// passes reports whether an entry passes the filters that need no address.
func (s *search) passes(one *row) bool {
	a := &s.asked
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
