// Package survey takes the inventory of a subtree before it is moved: how much
// there is, of what kind and age, what stands out, which names another account would
// not hold, and what is there twice. It reads no contents, and its memory does not
// grow with the tree.
package survey

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"deftheron/core/compare"
	"deftheron/core/listing"
	"deftheron/core/names"
	"deftheron/core/plan"
	"deftheron/core/spill"
	"deftheron/core/store"
)

// How many of each are listed.
const (
	MostLargest    = 20
	MostDeepest    = 10
	MostNames      = 100
	MostTooLarge   = 20
	MostDuplicates = 50
	mostExamples   = 3
)

// Group is how many entries there are of a kind, and their bytes.
type Group struct {
	Name  string `json:"name"`
	Items int64  `json:"items"`
	Bytes int64  `json:"bytes"`
}

func (g *Group) add(size int64) {
	g.Items++
	g.Bytes += max(0, size)
}

// File is one entry that stands out.
type File struct {
	Key   store.Key
	Kind  store.Kind
	Size  int64
	Depth int // folders that it is in, below the one surveyed
}

// Name is a name that the target cannot hold.
type Name struct {
	File
	To  store.Key // under which it would be there; empty where it is refused
	Why string    // of one that is refused
}

// Duplicate is content that is there several times, as far as hashes are told.
type Duplicate struct {
	Hash     string
	Size     int64
	Items    int64
	Examples []store.Key
}

// Wasted is how many bytes are there more than once.
func (d Duplicate) Wasted() int64 { return (d.Items - 1) * d.Size }

// Target is where it is to go.
type Target struct {
	Traits store.Traits
	Path   store.Path // of the folder that it becomes
	// Shared, where it is not nil, is called with each entry that has a share list.
	Shared func(context.Context, store.Ref) error
}

// Result is an inventory.
type Result struct {
	Files, Folders, Others int64
	Bytes                  int64
	// Unsized are files and documents whose size is not told.
	Unsized, EmptyFiles, EmptyFolders int64
	// Types, Ages and Documents, the largest first; ages the youngest first.
	Types, Ages, Documents []Group
	Largest, Deepest       []File
	// Of a target: names that are translated, and that it refuses, twins by
	// letter case among the first, and files that are too large for it.
	Translated, Refused, Twins int64
	Names                      []Name
	TooLarge                   Group
	TooLargeFiles              []File
	// Hashed is of how many files a hash is told; Duplicates are counted among
	// them, Repeated is how many files, and bytes, are there once more.
	Hashed     int64
	Repeated   Group
	Duplicates []Duplicate
}

var ages = []struct {
	name string
	days int
}{{"within 30 days", 30}, {"within a year", 365}, {"within 3 years", 3 * 365}, {"within 7 years", 7 * 365}, {"older than 7 years", 1 << 20}}

// Take surveys the folder, of a store whose documents are left as they are. target
// may be nil. told, where not nil, is called now and then with how many entries
// were seen. It ends with an error where a listing was not complete.
func Take(ctx context.Context, s store.Store, place store.Ref, target *Target, filter plan.Filter, now time.Time,
	told func(entries int64)) (*Result, error) {
	t := &taking{now: now, types: map[string]*Group{}, ages: map[string]*Group{}, documents: map[string]*Group{}, result: &Result{}}
	defer t.hashes.Close()
	if target != nil {
		t.limit, t.path, t.translator = target.Traits.LargestFile, target.Path, names.For(target.Traits)
	}
	root := place.AsFolder()
	entries := int64(0)
	counted := func(listing iter.Seq2[store.Listed, error]) iter.Seq2[store.Listed, error] {
		return func(yield func(store.Listed, error) bool) {
			for listed, err := range listing {
				if entries++; told != nil && entries%1000 == 0 {
					told(entries)
				}
				if !yield(listed, err) {
					return
				}
			}
		}
	}
	sieve, err := filter.Sieve(now)
	if err != nil {
		return nil, err
	}
	leave := filter.Leaves()
	streams := compare.Streams{
		Source: func(ctx context.Context) iter.Seq2[store.Listed, error] {
			subtree := listing.FlatWithout(ctx, s, root, listing.Walk{Leave: leave})
			if sieve != nil {
				subtree = sieve.Of(subtree)
			}
			return counted(subtree)
		},
		Target: compare.OneFile(nil), Pairs: compare.NoPairs,
		At: func(context.Context, store.Key, store.Kind) (*store.Entry, error) { return nil, nil },
	}
	sides := compare.Sides{Source: s.Traits()}
	if target != nil {
		streams.Names = names.NewMapper(s.Traits(), root.Path, target.Traits, target.Path)
		sides.Target = target.Traits
	}
	for d, err := range compare.Merge(ctx, streams, sides) {
		if err != nil {
			return nil, fmt.Errorf("the survey is not complete: %w", err)
		}
		if err := t.entry(d, target); err != nil {
			return nil, err
		}
		if d.Source.HasShares && target != nil && target.Shared != nil {
			ref := d.Key.Ref(root.Path, d.Kind)
			ref.ID = d.Source.ID
			if err := target.Shared(ctx, ref); err != nil {
				return nil, fmt.Errorf("the share lists could not be read: %w", err)
			}
		}
	}
	return t.end()
}

type taking struct {
	now                    time.Time
	limit                  int64
	result                 *Result
	types, ages, documents map[string]*Group
	open                   store.Key // a folder that was just listed, and may hold nothing
	path                   store.Path
	translator             *names.Translator
	hashes                 spill.Sorter[store.Key]
}

func group(groups map[string]*Group, name string) *Group {
	if groups[name] == nil {
		groups[name] = &Group{Name: name}
	}
	return groups[name]
}

func (t *taking) entry(d compare.Difference, target *Target) error {
	r, entry := t.result, d.Source
	below, _ := d.Key.Split(d.Kind)
	file := File{Key: d.Key, Kind: d.Kind, Size: entry.Size, Depth: len(below.Names())}
	t.emptied(d.Key)
	if target != nil {
		t.name(d, file)
	}
	t.result.Deepest = keep(r.Deepest, file, MostDeepest, func(a, b File) int { return b.Depth - a.Depth })
	switch d.Kind {
	case store.KindFolder:
		r.Folders++
		t.open = d.Key
		return nil
	case store.KindOther:
		r.Others++
		return nil
	case store.KindDocument:
		kind := entry.Document
		if kind == "" {
			kind = "document"
		}
		group(t.documents, kind).add(entry.Size)
	}
	r.Files++
	r.Bytes += max(0, entry.Size)
	switch {
	case entry.Size < 0:
		r.Unsized++
	case entry.Size == 0:
		r.EmptyFiles++
	}
	kind := plan.TypeOf(entry.Name)
	if d.Kind == store.KindDocument {
		kind = "documents of the service"
	} else if kind == "" {
		kind = "other"
	}
	group(t.types, kind).add(entry.Size)
	group(t.ages, t.age(entry.Modified)).add(entry.Size)
	r.Largest = keep(r.Largest, file, MostLargest, func(a, b File) int { return int(max(-1, min(1, b.Size-a.Size))) })
	if t.limit > 0 && entry.Size > t.limit {
		r.TooLarge.add(entry.Size)
		r.TooLargeFiles = keep(r.TooLargeFiles, file, MostTooLarge, func(a, b File) int { return int(max(-1, min(1, b.Size-a.Size))) })
	}
	for _, kind := range store.HashKinds() {
		if hash := entry.Hashes.Get(kind); !hash.IsZero() && entry.Size > 0 {
			r.Hashed++
			return t.hashes.Add(fmt.Sprintf("%s %d", hash, entry.Size), string(d.Key), d.Key)
		}
	}
	return nil
}

// emptied counts the folder before a key, if the key is not in it.
func (t *taking) emptied(key store.Key) {
	if t.open != "" && !strings.HasPrefix(string(key), string(t.open)) {
		t.result.EmptyFolders++
	}
	t.open = ""
}

func (t *taking) name(d compare.Difference, file File) {
	r := t.result
	one := Name{File: file}
	_, original := d.Key.Split(d.Kind)
	_, own := d.To.Split(d.Kind)
	switch {
	case d.Refused != nil:
		r.Refused++
		one.Why = d.Refused.Error()
	case own == original: // what is in a folder whose name is translated is not counted
		return
	default:
		r.Translated++
		one.To = d.To
		if alone, err := t.translator.Put(t.path, original); err == nil && alone == original {
			r.Twins++
		}
	}
	if len(r.Names) < MostNames {
		r.Names = append(r.Names, one)
	}
}

func (t *taking) age(modified time.Time) string {
	if modified.IsZero() {
		return "not told"
	}
	days := int(t.now.Sub(modified).Hours() / 24)
	for _, age := range ages {
		if days < age.days {
			return age.name
		}
	}
	return ages[len(ages)-1].name
}

// keep adds a file to the first few in an order.
func keep(files []File, file File, most int, order func(a, b File) int) []File {
	at, _ := slices.BinarySearchFunc(files, file, func(a, b File) int {
		if c := order(a, b); c != 0 {
			return c
		}
		return -1 // after those that are equal
	})
	if at >= most {
		return files
	}
	files = slices.Insert(files, at, file)
	return files[:min(len(files), most)]
}

// end counts what is there twice, and puts the groups in order.
func (t *taking) end() (*Result, error) {
	r := t.result
	t.emptied("")
	var one Duplicate
	finish := func() {
		if one.Items < 2 {
			return
		}
		r.Repeated.Items += one.Items - 1
		r.Repeated.Bytes += one.Wasted()
		at, _ := slices.BinarySearchFunc(r.Duplicates, one, func(a, b Duplicate) int {
			if a.Wasted() >= b.Wasted() {
				return -1
			}
			return 1
		})
		if at < MostDuplicates {
			r.Duplicates = slices.Insert(r.Duplicates, at, one)
			r.Duplicates = r.Duplicates[:min(len(r.Duplicates), MostDuplicates)]
		}
	}
	last := ""
	for sorted, err := range t.hashes.All() {
		if err != nil {
			return nil, err
		}
		if sorted.Key != last {
			finish()
			last, one = sorted.Key, Duplicate{}
			if _, err := fmt.Sscanf(sorted.Key, "%s %d", &one.Hash, &one.Size); err != nil {
				return nil, err
			}
		}
		if one.Items++; len(one.Examples) < mostExamples {
			one.Examples = append(one.Examples, sorted.Value)
		}
	}
	finish()
	// A folder that another of the deepest is in is not one by itself.
	r.Deepest = slices.DeleteFunc(r.Deepest, func(file File) bool {
		return file.Kind == store.KindFolder && slices.ContainsFunc(r.Deepest, func(other File) bool {
			return other.Key != file.Key && strings.HasPrefix(string(other.Key), string(file.Key))
		})
	})
	r.Types, r.Documents = byBytes(t.types), byBytes(t.documents)
	for _, age := range ages {
		if g := t.ages[age.name]; g != nil {
			r.Ages = append(r.Ages, *g)
		}
	}
	if g := t.ages["not told"]; g != nil {
		r.Ages = append(r.Ages, *g)
	}
	return r, nil
}

func byBytes(groups map[string]*Group) []Group {
	var all []Group
	for _, g := range groups {
		all = append(all, *g)
	}
	slices.SortFunc(all, func(a, b Group) int {
		if a.Bytes != b.Bytes {
			return int(max(-1, min(1, b.Bytes-a.Bytes)))
		}
		return slices.Compare([]string{a.Name}, []string{b.Name})
	})
	return all
}
