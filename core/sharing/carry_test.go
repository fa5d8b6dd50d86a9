package sharing_test

import (
	"bytes"
	"context"
	"fmt"
	"iter"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/compare"
	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/core/sharing"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// nothing remembers no pairs: what is equal is found by hashes.
type nothing struct{ transfer.Memory }

func (nothing) Pairs(context.Context, string) iter.Seq2[compare.Pair, error] { return compare.NoPairs }
func (nothing) PairTo(context.Context, string, store.Key) (*compare.Pair, error) {
	return nil, nil
}

const (
	everybody = "anna@old.example bert@old.example cleo@old.example dora@old.example"
	admin     = "admin@old.example"
)

// sides are two accounts of one random tree.
type sides struct {
	source, target *storetest.Shared
	paths          []string // of everything at the source
	random         *rand.Rand
}

func newSides(t *testing.T, seed uint64) *sides {
	t.Helper()
	s := &sides{random: rand.New(rand.NewPCG(seed, 1)),
		source: &storetest.Shared{Memory: storetest.NewMemory(), Owner: admin, Levels: store.ShareLevels},
		target: &storetest.Shared{Memory: storetest.NewMemory(), Owner: "admin@new.example",
			People: []string{"anna@new.example", "bert@new.example", "cleo@new.example"}, MayOwn: []string{"anna@new.example"},
			Levels: []store.ShareLevel{store.ShareView, store.ShareEdit}}}
	write := func(to store.Store, path, data string) {
		t.Helper()
		at := store.Path("")
		names := strings.Split(path[1:], "/")
		for _, name := range names[:len(names)-1] {
			if _, err := to.MakeFolder(t.Context(), store.Folder{Path: at}.Ref(name).As(store.KindFolder)); err != nil {
				t.Fatal(err)
			}
			at = at.Child(name)
		}
		content := storetest.Text(data)
		_, err := to.Write(t.Context(), store.Writing{Place: store.Folder{Path: at}.Ref(names[len(names)-1]).As(store.KindFile), Content: content,
			Size: int64(len(data)), If: store.Any})
		if err != nil {
			t.Fatal(err)
		}
	}
	known := map[string]bool{}
	for i := range 40 {
		path := ""
		for range s.random.IntN(3) {
			path += fmt.Sprint("/f", s.random.IntN(3))
			if !known[path] {
				known[path] = true
				s.paths = append(s.paths, path)
			}
		}
		path += fmt.Sprintf("/%02d.txt", i)
		s.paths = append(s.paths, path)
		write(s.source, path, path)
		switch s.random.IntN(12) {
		case 0: // not transferred
		case 1:
			write(s.target, path, "something else")
		default:
			write(s.target, path, path)
		}
		if s.random.IntN(40) == 0 {
			write(s.target, path+" of theirs", "private")
		}
	}
	for _, path := range s.paths {
		if s.random.IntN(2) == 0 {
			continue
		}
		var list store.ShareList
		for _, person := range strings.Fields(everybody) {
			switch s.random.IntN(4) {
			case 0:
				list.People = append(list.People, store.SharedWith{Person: person, Level: store.ShareLevels[s.random.IntN(3)]})
			case 1:
				list.Owner = person
			}
		}
		list.Links = max(0, s.random.IntN(5)-3)
		s.source.SetList(path, list)
	}
	return s
}

func (s *sides) carry(t *testing.T, people job.People) (tally sharing.Tally, findings []sharing.Finding) {
	t.Helper()
	route := transfer.Route{Source: transfer.Side{Address: address(t, "/old"), Store: s.source},
		Target: transfer.Side{Account: "new", Address: address(t, "/new"), Store: s.target}}
	tally, err := sharing.Carry(t.Context(), []transfer.Route{route}, plan.Rules{}, time.Now(), nothing{}, people,
		func(one sharing.Finding) error {
			findings = append(findings, one)
			return nil
		})
	if err != nil {
		t.Fatal(err)
	}
	return tally, findings
}

func address(t *testing.T, text string) store.Address {
	t.Helper()
	parsed, err := store.ParseAddress(text)
	if err != nil {
		t.Fatal(err)
	}
	return parsed
}

// content is what somebody sees with whom a path of an account is shared.
func content(t *testing.T, s store.Store, path string) (seen []string) {
	t.Helper()
	names := strings.Split(path[1:], "/")
	ref := store.At(names...)
	entry, err := s.Stat(t.Context(), ref)
	if err != nil {
		return nil
	}
	if entry.Kind == store.KindFile {
		return []string{fmt.Sprint(entry.Name, entry.Hashes)}
	}
	for child, err := range s.List(t.Context(), ref.AsFolder()) {
		if err != nil {
			t.Fatal(err)
		}
		seen = append(seen, child.Name)
		seen = append(seen, content(t, s, path+"/"+child.Name)...)
	}
	return seen
}

// TestCarry carries random share lists over between random trees. Nobody is shown at the
// target what they do not see at the source; each right is carried over or listed; and doing
// it again, also after faults that pass, comes to the same and changes nothing.
func TestCarry(t *testing.T) {
	people := job.People{"anna@old.example": "anna@new.example", "bert@old.example": "bert@new.example", "cleo@old.example": ""}
	for seed := range uint64(30) {
		synctest.Test(t, func(t *testing.T) {
			s := newSides(t, seed)
			var mu sync.Mutex
			faults := rand.New(rand.NewPCG(seed, 2))
			s.target.Fail = func() error {
				mu.Lock()
				defer mu.Unlock()
				if faults.IntN(4) == 0 {
					return store.Errorf(store.ErrTryAgain, "it passes")
				}
				return nil
			}
			tally, findings := s.carry(t, people)
			rights := int64(0)
			for _, path := range s.paths {
				list := s.source.Listed(path)
				rights += int64(len(list.People) + list.Links)
				if list.Owner != "" {
					rights++
				}
				given := s.target.Listed(path)
				if given.Owner == "" && len(given.People) == 0 {
					continue
				}
				for _, one := range content(t, s.target, path) {
					if !slices.Contains(content(t, s.source, path), one) {
						t.Errorf("seed %d: %s is shared at the target and shows %s", seed, path, one)
					}
				}
				for _, one := range given.People {
					had := one.Person == strings.Replace(list.Owner, "@old", "@new", 1) || slices.ContainsFunc(list.People,
						func(before store.SharedWith) bool {
							return people[before.Person] == one.Person &&
								slices.Index(store.ShareLevels, before.Level) >= slices.Index(store.ShareLevels, one.Level)
						})
					if !had {
						t.Errorf("seed %d: %s has %s for %s, which %+v does not", seed, path, one.Level, one.Person, list)
					}
				}
			}
			if tally.Carried+tally.Lesser+tally.Missing != rights || int64(len(findings)) != tally.Lesser+tally.Missing {
				t.Errorf("seed %d: %d rights, of which %+v and %d findings", seed, rights, tally, len(findings))
			}
			if tally.Carried == 0 || tally.Missing == 0 {
				t.Errorf("seed %d: nothing was tried: %+v", seed, tally)
			}
			changing := s.target.Changing
			again, found := s.carry(t, people)
			if s.target.Changing != changing || !reflect.DeepEqual(again, tally) || !reflect.DeepEqual(found, findings) {
				t.Errorf("seed %d: again it comes to %+v with %d more changes, after %+v", seed, again, s.target.Changing-changing, tally)
			}
		})
	}
}

// TestCarryEnds ends with an error that concerns everything, and has a finding for a share
// list that alone cannot be read.
func TestCarryEnds(t *testing.T) {
	s := newSides(t, 3)
	route := transfer.Route{Source: transfer.Side{Address: address(t, "/old"), Store: s.source},
		Target: transfer.Side{Address: address(t, "/new"), Store: s.target}}
	carry := func() (sharing.Tally, error) {
		return sharing.Carry(t.Context(), []transfer.Route{route}, plan.Rules{}, time.Now(), nothing{}, job.People{},
			func(sharing.Finding) error { return nil })
	}
	s.source.Fail = func() error { return store.Errorf(store.ErrSignInExpired, "who are you") }
	if _, err := carry(); store.KindOf(err) != store.ErrSignInExpired {
		t.Errorf("with an expired sign-in: %v", err)
	}
	s.source.Fail = func() error { return store.Errorf(store.ErrRefused, "not for you") }
	tally, err := carry()
	if err != nil || tally.Missing == 0 || len(tally.Why) != 1 || tally.Why[0].Cause != plan.CauseSharesUnread {
		t.Errorf("with share lists that cannot be read: %+v, %v", tally, err)
	}
}

// TestSurvey counts people, and matches them with the table and the target.
func TestSurvey(t *testing.T) {
	s := newSides(t, 5)
	taking, err := sharing.NewSurveyor(t.Context(), s.source)
	if err != nil {
		t.Fatal(err)
	}
	s.source.SetList("/f0", store.ShareList{Owner: admin, People: []store.SharedWith{{Person: "CLEO@old.example", Level: store.ShareView},
		{Person: "cleo@new.example", Level: store.ShareView}}, Links: 2})
	if err := taking.Add(t.Context(), store.At("f0")); err != nil {
		t.Fatal(err)
	}
	taken, err := taking.End(t.Context(), s.target, job.People{"cleo@old.example": "nobody@new.example"})
	want := sharing.Survey{Entries: 1, Links: 2, Supported: true, People: []sharing.Surveyed{
		{Person: "cleo@new.example", Shared: 1, Becomes: "cleo@new.example", Proposed: true, Cause: plan.CausePersonMissing},
		{Person: "cleo@old.example", Shared: 1, Becomes: "nobody@new.example", Cause: plan.CausePersonUnknown}}}
	if err != nil || !reflect.DeepEqual(taken, want) {
		t.Errorf("%+v, %v", taken, err)
	}
	unknown, err := sharing.Unknown(t.Context(), s.target, job.People{"a@old.example": "x@new.example", "b@old.example": "anna@new.example",
		"c@old.example": "", "d@old.example": "x@new.example"})
	if err != nil || !slices.Equal(unknown, []string{"x@new.example"}) {
		t.Errorf("unknown are %q, %v", unknown, err)
	}
}

// FuzzReadPeople reads tables of any form; what it accepts is a table that it writes and
// reads again.
func FuzzReadPeople(f *testing.F) {
	f.Add("old,new\na@x.example,b@y.example\n")
	f.Add("\ufeffOLD,New,more\r\n\"a@x.example\",,\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		people, err := job.ReadPeople(strings.NewReader(text))
		if err != nil {
			return
		}
		var written bytes.Buffer
		written.WriteString("old,new\n")
		for old, to := range people {
			fmt.Fprintf(&written, "%q,%q\n", old, to)
		}
		if strings.ContainsAny(written.String(), `\`) {
			return // %q is not CSV
		}
		again, err := job.ReadPeople(&written)
		if err != nil || !reflect.DeepEqual(again, people) {
			t.Errorf("%v, %v; want %v", again, err, people)
		}
	})
}
