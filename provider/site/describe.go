package site

import (
	"maps"
	"math/bits"
	"reflect"
	"regexp"
	"slices"
	"time"

	"deftheron/core/store"
)

// description is what has to be known of an account that a worker has opened, to call it.
type description struct {
	Traits traits
	// Has are the names of the capabilities that the account has.
	Has       []string
	Keeps     keeps
	Parts     parts
	SumKinds  []store.HashKind
	Documents []store.DocumentKind
	Levels    []store.ShareLevel
	Pinned    map[string]string
	// Certificate is when the certificate ends that its server showed last, in Unix seconds; 0 for none.
	Certificate int64
}

// traits are store.Traits, with the rules on names in a form that can be sent.
type traits struct {
	Order                                            store.Order
	Folders                                          store.Folders
	Revisions                                        store.Revisions
	VerificationKind                                 store.HashKind
	FileBesideFolder, Twins, CaseIgnored, KeepsTimes bool
	Conditional, Whole, Trash, ReadOnly, HasRules    bool
	LargestFile                                      int64
	TimePrecision                                    time.Duration
	Windows                                          []string
	Streams                                          int
	Names                                            nameRules
}

// nameRules are store.NameRules.
type nameRules struct {
	Keeper, Without, NoLast, Form                                string
	NoEmpty, NoSteps, NoSlashes, UTF8, NoControls                bool
	NoDotFirst, NoDevices, NoCapitals                            bool
	Patterns                                                     []string
	MostBytes, MostCharacters, MostUnits, MostKeyBytes, MostPath int
	Start                                                        string
	Deepest                                                      int
}

// keeps says of which writings the account keeps what they replace.
type keeps struct{ Absent, AtRevision, Any bool }

// parts are store.PartLimits: Sizes are the sizes of parts of files of up to 1, 2, 4, … bytes,
// as the size for a file is also one for a smaller file.
type parts struct {
	Above    int64
	Sizes    []int64
	Parallel int
	Uneven   bool
}

// largestOf is the power of two up to which sizes of parts are described.
const largestOf = 53

func traitsOf(t store.Traits) traits {
	of := traits{
		Order: t.Order, Folders: t.Folders, Revisions: t.Revisions, VerificationKind: t.VerificationKind,
		FileBesideFolder: t.FileBesideFolder, Twins: t.Twins, CaseIgnored: t.CaseIgnored, KeepsTimes: t.KeepsTimes,
		Conditional: t.Conditional, Whole: t.Whole, Trash: t.Trash, ReadOnly: t.ReadOnly, HasRules: t.Names != nil,
		LargestFile: t.LargestFile, TimePrecision: t.TimePrecision, Windows: t.Windows, Streams: t.Streams,
	}
	if n := t.Names; n != nil {
		of.Names = nameRules{
			Keeper: n.Keeper, Without: n.Without, NoLast: n.NoLast, Form: n.Form, NoEmpty: n.NoEmpty, NoSteps: n.NoSteps,
			NoSlashes: n.NoSlashes, UTF8: n.UTF8, NoControls: n.NoControls, NoDotFirst: n.NoDotFirst, NoDevices: n.NoDevices,
			NoCapitals: n.NoCapitals, MostBytes: n.MostBytes, MostCharacters: n.MostCharacters, MostUnits: n.MostUnits,
			MostKeyBytes: n.MostKeyBytes, MostPath: n.MostPath, Start: string(n.Start), Deepest: n.Deepest,
		}
		for _, pattern := range n.Patterns {
			of.Names.Patterns = append(of.Names.Patterns, pattern.String())
		}
	}
	return of
}

func (t traits) traits() (store.Traits, error) {
	of := store.Traits{
		Order: t.Order, Folders: t.Folders, Revisions: t.Revisions, VerificationKind: t.VerificationKind,
		FileBesideFolder: t.FileBesideFolder, Twins: t.Twins, CaseIgnored: t.CaseIgnored, KeepsTimes: t.KeepsTimes,
		Conditional: t.Conditional, Whole: t.Whole, Trash: t.Trash, ReadOnly: t.ReadOnly,
		LargestFile: t.LargestFile, TimePrecision: t.TimePrecision, Windows: t.Windows, Streams: t.Streams,
	}
	if !t.HasRules {
		return of, nil
	}
	n := t.Names
	of.Names = &store.NameRules{
		Keeper: n.Keeper, Without: n.Without, NoLast: n.NoLast, Form: n.Form, NoEmpty: n.NoEmpty, NoSteps: n.NoSteps,
		NoSlashes: n.NoSlashes, UTF8: n.UTF8, NoControls: n.NoControls, NoDotFirst: n.NoDotFirst, NoDevices: n.NoDevices,
		NoCapitals: n.NoCapitals, MostBytes: n.MostBytes, MostCharacters: n.MostCharacters, MostUnits: n.MostUnits,
		MostKeyBytes: n.MostKeyBytes, MostPath: n.MostPath, Start: store.Path(n.Start), Deepest: n.Deepest,
	}
	for _, text := range n.Patterns {
		pattern, err := regexp.Compile(text)
		if err != nil {
			return of, store.Errorf(store.ErrTryAgain, "the worker describes names with a pattern that cannot be read: %w", err)
		}
		of.Names.Patterns = append(of.Names.Patterns, pattern)
	}
	return of, nil
}

// describe returns the description of a store.
func describe(s store.Store) *description {
	c := s.Capabilities()
	d := &description{Traits: traitsOf(s.Traits())}
	fields := reflect.ValueOf(c)
	for i := range fields.NumField() {
		if !fields.Field(i).IsZero() {
			d.Has = append(d.Has, fields.Type().Field(i).Name)
		}
	}
	if c.Keeps != nil {
		d.Keeps = keeps{Absent: c.Keeps(store.Writing{}), AtRevision: c.Keeps(store.Writing{If: store.AtRevision("1")}),
			Any: c.Keeps(store.Writing{If: store.Any})}
	}
	if c.Parts != nil {
		d.Parts = partsOf(c.Parts)
	}
	if c.Checksums != nil {
		d.SumKinds = c.Checksums.SumKinds()
	}
	if c.Exports != nil {
		d.Documents = c.Exports.DocumentKinds()
	}
	if c.Sharing != nil {
		d.Levels = c.Sharing.ShareLevels()
	}
	if c.Pinned != nil {
		d.Pinned = maps.Clone(c.Pinned())
	}
	return d
}

func partsOf(writer store.PartWriter) parts {
	limits, ok := writer.PartLimits()
	if !ok {
		return parts{}
	}
	of := parts{Above: limits.Above, Parallel: limits.Parallel, Uneven: limits.Uneven}
	for power := range largestOf + 1 {
		of.Sizes = append(of.Sizes, limits.Size(1<<power))
	}
	return of
}

// limits are the limits as the account has them, ok is false where it takes no parts.
func (p parts) limits() (limits store.PartLimits, ok bool) {
	if len(p.Sizes) == 0 || slices.Min(p.Sizes) <= 0 {
		return limits, false
	}
	return store.PartLimits{Above: p.Above, Parallel: p.Parallel, Uneven: p.Uneven, Size: func(file int64) int64 {
		power := bits.Len64(uint64(max(file, 1) - 1)) // the least with file <= 1<<power
		return p.Sizes[min(power, len(p.Sizes)-1)]
	}}, true
}

// of reports whether the account keeps what a writing replaces.
func (k keeps) of(writing store.Writing) bool {
	_, atRevision := writing.If.Expect()
	switch {
	case writing.If.IsAbsent():
		return k.Absent
	case atRevision:
		return k.AtRevision
	}
	return k.Any
}
