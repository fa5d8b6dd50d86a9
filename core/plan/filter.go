package plan

import (
	"errors"
	"fmt"
	"iter"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"deftheron/core/remedy"
	"deftheron/core/store"
)

// Filter says what is taken of a source; its zero value takes all.
type Filter struct {
	// Exclude are patterns, as of ParsePatterns, of what is left out.
	Exclude []string `json:"exclude,omitempty"`
	// Include are patterns of what is taken; none takes all.
	Include []string `json:"include,omitempty"`
	// Types are kinds of files that are taken: "documents", "pictures",
	// "sound", "film".
	Types []string `json:"types,omitempty"`
	// SmallerThan and LargerThan are sizes in bytes, each excluded; 0 is none.
	SmallerThan int64 `json:"smaller_than,omitempty"`
	LargerThan  int64 `json:"larger_than,omitempty"`
	// NewerThan and OlderThan are dates (2020-01-01, or RFC 3339) or ages
	// before the run (36h, 30d, 8w, 6mo, 2y).
	NewerThan string `json:"newer_than,omitempty"`
	OlderThan string `json:"older_than,omitempty"`
}

// types are the endings of files by type.
var types = map[string][]string{
	"documents": {"csv", "doc", "docm", "docx", "epub", "fodp", "fods", "fodt", "htm", "html", "json", "geojson", "md", "odg", "odp", "ods",
		"odt", "pdf", "ppt", "pptx", "rtf", "tex", "tsv", "txt", "xls", "xlsm", "xlsx", "xml"},
	"pictures": {"avif", "bmp", "cr2", "cr3", "dng", "gif", "heic", "heif", "ico", "jpeg", "jpg", "jxl", "nef", "png", "psd", "raw", "svg",
		"tif", "tiff", "webp"},
	"sound": {"aac", "aif", "aiff", "flac", "m4a", "mid", "midi", "mp3", "oga", "ogg", "opus", "wav", "wma"},
	"film":  {"avi", "m2ts", "m4v", "mkv", "mov", "mp4", "mpeg", "mpg", "mts", "ogv", "webm", "wmv"},
}

// TypeNames are the types of files that filters know.
var TypeNames = slices.Sorted(maps.Keys(types))

// TypeOf is the type of a file by the ending of its name; empty for any other.
func TypeOf(name string) string {
	ending := strings.ToLower(strings.TrimPrefix(path.Ext(name), "."))
	for _, one := range TypeNames {
		if slices.Contains(types[one], ending) {
			return one
		}
	}
	return ""
}

// Sieve is a filter at a moment, ready to be used by one goroutine.
type Sieve struct {
	exclude, only *Patterns
	types         []string
	smaller       int64
	larger        int64
	newer, older  time.Time
	// Excluded counts the files that were left out, but for those in folders that were
	// left out with all that is in them, which Folders counts.
	Excluded Count
	Folders  int64
	// Taken counts the files that were taken.
	Taken Count
	// Examples are the first of each.
	Examples struct{ Taken, Excluded []store.Listed }
}

// mostExamples is how many of what is taken and of what is excluded are kept as examples.
const mostExamples = 10

// note counts something that is listed, and keeps it as an example.
func (s *Sieve) note(listed store.Listed, taken bool) {
	examples := &s.Examples.Excluded
	switch {
	case taken:
		s.Taken.add(listed.Size)
		examples = &s.Examples.Taken
	case listed.Kind == store.KindFolder:
		s.Folders++
	default:
		s.Excluded.add(listed.Size)
	}
	if len(*examples) < mostExamples {
		*examples = append(*examples, listed)
	}
}

// Leaves says of folders whether they are left out with all that is in them, so that
// they need not be looked into; nil where none are. It is for one goroutine at a time.
func (f Filter) Leaves() func(store.Listed) bool {
	patterns, err := ParsePatterns(f.Exclude)
	if err != nil || patterns.Empty() {
		return nil
	}
	return func(listed store.Listed) bool { return patterns.Match(listed.Below, listed.Name, listed.Kind) }
}

// Sieve reads the filter. Its error says what is wrong with it, or which of its
// rules contradict each other. It is nil for a filter that takes all.
func (f Filter) Sieve(now time.Time) (*Sieve, error) {
	s := &Sieve{types: f.Types, smaller: f.SmallerThan, larger: f.LargerThan}
	var err error
	if s.exclude, err = ParsePatterns(f.Exclude); err != nil {
		return nil, fmt.Errorf("exclude: %w", err)
	}
	if s.only, err = ParsePatterns(f.Include); err != nil {
		return nil, fmt.Errorf("include: %w", err)
	}
	for _, one := range f.Types {
		if types[one] == nil {
			return nil, remedy.Errorf("%q is not a type of files; use %s", one, strings.Join(TypeNames, ", "))
		}
	}
	for _, one := range f.Exclude {
		if slices.Contains(f.Include, one) {
			return nil, remedy.Errorf("the pattern %q is both to be left out and taken alone; keep one of the two", one)
		}
	}
	if s.newer, err = parseMoment(f.NewerThan, now); err != nil {
		return nil, err
	}
	if s.older, err = parseMoment(f.OlderThan, now); err != nil {
		return nil, err
	}
	switch {
	case s.smaller < 0 || s.larger < 0:
		return nil, remedy.Errorf("a size cannot be less than nothing; give one such as 2GiB")
	case s.smaller > 0 && s.larger >= s.smaller-1:
		return nil, remedy.Errorf("no file is both larger than %d bytes and smaller than %d; change one of the two", s.larger, s.smaller)
	case !s.newer.IsZero() && !s.older.IsZero() && !s.newer.Before(s.older):
		return nil, remedy.Errorf("no file is both newer than %s and older than %s; change one of the two", f.NewerThan, f.OlderThan)
	}
	if s.exclude.Empty() && !s.picks() {
		return nil, nil
	}
	return s, nil
}

var age = regexp.MustCompile(`^([0-9]+)(h|d|w|mo|y)$`)

// parseMoment reads a date or an age; empty is not a moment.
func parseMoment(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{time.DateOnly, time.RFC3339} {
		if at, err := time.Parse(layout, text); err == nil {
			return at, nil
		}
	}
	before, err := ParseAge(text, now)
	if errors.Is(err, errNoAge) {
		return before, remedy.Errorf("%q is neither a date nor an age; write it as 2020-01-31, or as 36h, 30d, 8w, 6mo, 2y", text)
	}
	return before, err
}

var errNoAge = errors.New("no age")

// ParseAge is the moment that is an age before now: 36h, 30d, 8w, 6mo or 2y.
func ParseAge(text string, now time.Time) (time.Time, error) {
	parts := age.FindStringSubmatch(text)
	if parts == nil {
		return time.Time{}, remedy.Errorf("%q is %w; write it as 36h, 30d, 8w, 6mo, 2y", text, errNoAge)
	}
	n, err := strconv.Atoi(parts[1])
	if err != nil || n > 100_000 {
		return time.Time{}, remedy.Errorf("the age %q is too long; write a date such as 2020-01-31", text)
	}
	switch parts[2] {
	case "h":
		return now.Add(-time.Duration(n) * time.Hour), nil
	case "d":
		return now.AddDate(0, 0, -n), nil
	case "w":
		return now.AddDate(0, 0, -7*n), nil
	case "mo":
		return now.AddDate(0, -n, 0), nil
	}
	return now.AddDate(-n, 0, 0), nil
}

// picks reports whether some files alone are taken.
func (s *Sieve) picks() bool {
	return !s.only.Empty() || len(s.types) > 0 || s.smaller > 0 || s.larger > 0 || !s.newer.IsZero() || !s.older.IsZero()
}

// Takes reports whether an entry is taken. A size or a time that is not told leaves
// nothing out.
func (s *Sieve) Takes(listed store.Listed) bool {
	if s.exclude.Match(listed.Below, listed.Name, listed.Kind) {
		return false
	}
	if listed.Kind == store.KindFolder {
		return true
	}
	switch {
	case !s.only.Empty() && !s.only.Match(listed.Below, listed.Name, listed.Kind),
		len(s.types) > 0 && !slices.Contains(s.types, TypeOf(listed.Name)),
		s.smaller > 0 && listed.Size >= s.smaller,
		s.larger > 0 && listed.Size >= 0 && listed.Size <= s.larger:
		return false
	case listed.Modified.IsZero():
		return true
	}
	return (s.newer.IsZero() || listed.Modified.After(s.newer)) && (s.older.IsZero() || listed.Modified.Before(s.older))
}

// Of yields what is taken of a listing. A folder of which something is left out is
// there only if something in it is taken; one that is empty is there unless some
// files alone are taken.
func (s *Sieve) Of(listing iter.Seq2[store.Listed, error]) iter.Seq2[store.Listed, error] {
	if s == nil {
		return listing
	}
	return func(yield func(store.Listed, error) bool) {
		var way waiting
		var left store.Key // a folder that is left out with all that is in it
		for listed, err := range listing {
			if err != nil {
				yield(listed, err)
				return
			}
			if left != "" && strings.HasPrefix(string(listed.Key()), string(left)) {
				continue
			}
			if !way.leave(listed.Key(), !s.picks(), yield) {
				return
			}
			switch {
			case !s.Takes(listed) && listed.Kind == store.KindFolder:
				way.partly()
				left = listed.Key()
				s.note(listed, false)
			case !s.Takes(listed):
				way.partly()
				s.note(listed, false)
			case listed.Kind == store.KindFolder:
				way = append(way, &folderWaiting{listed: listed})
			default:
				s.note(listed, true)
				if !way.yield(yield) || !yield(listed, nil) {
					return
				}
			}
		}
		way.leave("", !s.picks(), yield)
	}
}

// waiting are the folders on the way to where a listing is, outermost first, of
// which it is not known yet whether anything in them is taken.
type waiting []*folderWaiting

type folderWaiting struct {
	listed  store.Listed
	partly  bool // something in it is left out
	yielded bool
}

func (w waiting) partly() {
	for _, folder := range w {
		folder.partly = true
	}
}

func (w waiting) yield(yield func(store.Listed, error) bool) bool {
	for _, folder := range w {
		if !folder.yielded {
			folder.yielded = true
			if !yield(folder.listed, nil) {
				return false
			}
		}
	}
	return true
}

// leave drops the folders that a key is not in; those that are empty are yielded.
func (w *waiting) leave(key store.Key, empties bool, yield func(store.Listed, error) bool) bool {
	for len(*w) > 0 {
		last := (*w)[len(*w)-1]
		if key != "" && strings.HasPrefix(string(key), string(last.listed.Key())) {
			return true
		}
		if !last.yielded && !last.partly && empties && !w.yield(yield) {
			return false
		}
		*w = (*w)[:len(*w)-1]
	}
	return true
}
