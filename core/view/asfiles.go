package view

import (
	"context"
	"io"
	"iter"
	"path"
	"regexp"
	"slices"
	"strings"

	"deftheron/core/store"
)

// ExportFormats says what documents are exported as, by class: "text", "sheet", … It
// may name several formats; an empty list leaves the documents of the class as
// they are, which cannot be read. A class that is not named takes the default
// of each kind.
type ExportFormats map[string][]string

// Formats are those that a document is exported as.
func (c ExportFormats) Formats(kind store.DocumentKind) []string {
	wanted, named := c[kind.Class]
	if !named {
		return []string{kind.Formats[0].Name}
	}
	var formats []string
	for _, format := range kind.Formats {
		if slices.Contains(wanted, format.Name) {
			formats = append(formats, format.Name)
		}
	}
	return formats
}

// Exports returns a view of a store to copy from. Each document is a file of unknown
// size in every chosen format, and if two entries of a folder have the same name, one of
// them gets another. Writes, and entries that are no files, go to the store unchanged.
//
// The twin with the smallest id keeps the name. Any other is called "NAME (ID).EXT", so
// that its name does not depend on the number of twins.
func Exports(s store.Store, choice ExportFormats) store.Store {
	if !s.Traits().Twins && len(store.DocumentKindsOf(s)) == 0 {
		return s
	}
	return &asFiles{Store: s, choice: choice}
}

type asFiles struct {
	store.Store
	choice ExportFormats
}

// exportMark stands between a document's id and a format in the id of its
// export.
const exportMark = "#export="

// Traits implements Store.
func (a *asFiles) Traits() store.Traits {
	traits := a.Store.Traits()
	traits.Order, traits.Twins = store.OrderByKey, false
	return traits
}

// List implements Store. It holds the entries of one folder.
func (a *asFiles) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		var all []store.Entry
		for entry, err := range a.Store.List(ctx, folder) {
			if err != nil {
				yield(store.Entry{}, err)
				return
			}
			all = append(all, a.expand(entry)...)
		}
		distinct(all)
		store.SortByKey(all)
		for _, entry := range all {
			if !yield(entry, nil) {
				return
			}
		}
	}
}

// expand is an entry as files: a document's exports, or the entry itself.
func (a *asFiles) expand(entry store.Entry) []store.Entry {
	kind, ok := store.ExportsOf(a.Store, entry)
	if !ok {
		return []store.Entry{entry}
	}
	var all []store.Entry
	for _, format := range a.choice.Formats(kind) {
		all = append(all, exported(entry, format))
	}
	if len(all) == 0 {
		return []store.Entry{entry}
	}
	return all
}

// ExportedAs is the format of an entry of AsFiles that is an export; empty for
// any other.
func ExportedAs(entry store.Entry) string {
	_, format, _ := strings.Cut(entry.ID, exportMark)
	return format
}

func exported(document store.Entry, format string) store.Entry {
	file := document
	file.Kind, file.Size, file.Hashes = store.KindFile, -1, nil
	file.Name, file.ID = store.ExportName(document.Name, format), document.ID+exportMark+format
	return file
}

// distinct gives entries of one folder that have one name names of their own.
func distinct(all []store.Entry) {
	first := make(map[string]int, len(all))
	mark := func(entry *store.Entry) string {
		if entry.Kind == store.KindFolder {
			return entry.Name + "/"
		}
		return entry.Name
	}
	for i := range all {
		entry := &all[i]
		at, twice := first[mark(entry)]
		if !twice {
			first[mark(entry)] = i
			continue
		}
		if lessID(entry.ID, all[at].ID) {
			first[mark(entry)] = i
			entry = &all[at]
		}
		entry.Name = twinName(*entry)
	}
}

// lessID orders ids, whichever export they are of: numbers by their size.
func lessID(a, b string) bool {
	a, _, _ = strings.Cut(a, exportMark)
	b, _, _ = strings.Cut(b, exportMark)
	return len(a) < len(b) || len(a) == len(b) && a < b
}

func twinName(entry store.Entry) string {
	id, _, _ := strings.Cut(entry.ID, exportMark)
	extension := path.Ext(entry.Name)
	if entry.Kind == store.KindFolder || extension == entry.Name {
		extension = ""
	}
	return strings.TrimSuffix(entry.Name, extension) + " (" + id + ")" + extension
}

// find is the document, or the entry, that a place of the view is of; format is
// empty where it is not an export.
func (a *asFiles) find(ctx context.Context, place store.Ref) (where store.Ref, entry store.Entry, format string, err error) {
	if id, mark, ok := strings.Cut(place.ID, exportMark); ok {
		where = place.Folder.Ref(strings.TrimSuffix(place.Name, "."+mark))
		where.ID = id
		entry, err = a.Store.Stat(ctx, where)
		return where, entry, mark, err
	}
	entry, err = a.Store.Stat(ctx, place)
	if store.KindOf(err) != store.ErrNotFound || place.IsStart() {
		return place, entry, "", err
	}
	if twin, ok, failed := a.twin(ctx, place); failed != nil {
		return place, store.Entry{}, "", failed
	} else if ok {
		return a.find(ctx, twin)
	}
	extension := path.Ext(place.Name)
	if extension != "" {
		where = place.Folder.Ref(strings.TrimSuffix(place.Name, extension))
		document, missing := a.Store.Stat(ctx, where)
		if kind, ok := store.ExportsOf(a.Store, document); missing == nil && ok {
			if format = extension[1:]; slices.Contains(a.choice.Formats(kind), format) {
				where.ID = document.ID
				return where, document, format, nil
			}
		}
	}
	return place, entry, "", err
}

// twinForm is what twinName makes: a stem, an id in parentheses, and an extension.
var twinForm = regexp.MustCompile(`^(.*) \(([^()]+)\)(\.[^.]*)?$`)

// twin returns the place of the entry for which twinName made the name of a place; ok is false if there is none.
// The id in the name is not trusted: its entry may be in another folder.
func (a *asFiles) twin(ctx context.Context, place store.Ref) (twin store.Ref, ok bool, err error) {
	parts := twinForm.FindStringSubmatch(place.Name)
	if parts == nil || place.ID != "" || !a.Store.Traits().Twins {
		return store.Ref{}, false, nil
	}
	for entry, err := range a.List(ctx, place.Folder) {
		if store.KindOf(err) == store.ErrNotFound {
			break
		}
		if err != nil {
			return store.Ref{}, false, err // a listing that broke off says nothing of what is missing
		}
		if entry.Name == place.Name && place.Means(entry.Kind) && entry.ID != "" {
			twin = place.Folder.Ref(parts[1] + parts[3])
			twin.ID = entry.ID
			if ExportedAs(entry) == "" { // else what is stored is a document
				twin.Kind = entry.Kind
			}
			return twin, true, nil
		}
	}
	return store.Ref{}, false, nil
}

// Stat implements Store.
func (a *asFiles) Stat(ctx context.Context, place store.Ref) (store.Entry, error) {
	_, entry, format, err := a.find(ctx, place)
	if err == nil && format != "" {
		entry = exported(entry, format)
	}
	return entry, err
}

// Open implements Store. Of an export there are no ranges.
func (a *asFiles) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	_, byMark, _ := strings.Cut(reading.Place.ID, exportMark)
	if byMark == "" && reading.Place.ID != "" {
		return a.Store.Open(ctx, reading)
	}
	where, entry, format, err := a.find(ctx, reading.Place)
	if err != nil {
		return nil, err
	}
	if format == "" {
		reading.Place = where
		return a.Store.Open(ctx, reading)
	}
	if reading.Offset != 0 || reading.Length != 0 {
		return nil, store.Errorf(store.ErrUnsupported, "an export can be read from its beginning alone")
	}
	if reading.Revision != "" && entry.Revision != reading.Revision {
		return nil, store.Errorf(store.ErrChanged, "%s has the revision %q, not %q", where, entry.Revision, reading.Revision)
	}
	return store.Export(ctx, a.Store, where, reading.Revision, format)
}

// Remove implements Store. A document is not removed for an export of it.
func (a *asFiles) Remove(ctx context.Context, place store.Ref, revision string) (store.Removal, error) {
	_, _, format, err := a.find(ctx, place)
	if err != nil {
		return "", err
	}
	if format != "" {
		return "", store.Errorf(store.ErrRefused, "%s is a document of the service; its exports are no reason to remove it", place)
	}
	return a.Store.Remove(ctx, place, revision)
}

// Capabilities implements Store: all of the store beneath, for the places of the
// view. Not so the flat listing and the exports: what they would yield are no
// files yet.
func (a *asFiles) Capabilities() store.Capabilities {
	c := a.Store.Capabilities()
	//nolint:govet // without the fields' names, so that the compiler finds one that is forgotten
	view := store.Capabilities{
		nil, // ListFlat
		nil, // Move, below
		nil, // Copy, below
		c.Keeps,
		nil, // Origin, below
		c.Kept,
		c.Parts,
		nil, // Sums, below
		nil, // Exports
		c.Changes,
		c.AwaitChanges,
		c.Clean,
		c.Prepare,
		c.Sync,
		c.Check,
		c.Space,
		c.Owner,
		c.Locate,
		c.Areas,
		c.Pinned,
		c.Lock,
		c.Sealing,
		nil, // Sharing, below
		c.Locker,
		nil, // Versions: the account names what it keeps by places beneath
		c.Close,
	}
	if c.Move != nil {
		view.Move = func(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
			where, err := a.stored(ctx, from)
			if err != nil {
				return store.Entry{}, err
			}
			return c.Move(ctx, where, revision, to)
		}
	}
	if c.Copy != nil {
		view.Copy = func(ctx context.Context, from store.Ref, revision string, to store.Ref, run string) (store.Entry, error) {
			where, err := a.stored(ctx, from)
			if err != nil {
				return store.Entry{}, err
			}
			return c.Copy(ctx, where, revision, to, run)
		}
	}
	if c.Origin != nil {
		view.Origin = func(ctx context.Context, ref store.Ref, revision string) (store.Origin, error) {
			where, err := a.stored(ctx, ref)
			if err != nil {
				return store.Origin{}, err
			}
			return c.Origin(ctx, where, revision)
		}
	}
	if c.Checksums != nil {
		view.Checksums = asFilesSums{a, c.Checksums}
	}
	if c.Sharing != nil {
		view.Sharing = asFilesSharing{c.Sharing, a}
	}
	return view
}

// stored returns the place of a file at the underlying store. The error is
// ErrUnsupported for an export.
func (a *asFiles) stored(ctx context.Context, ref store.Ref) (store.Ref, error) {
	where, _, format, err := a.find(ctx, ref)
	if err == nil && format != "" {
		err = store.Errorf(store.ErrUnsupported, "%s is a document of the service; its exports are made when they are read", ref)
	}
	return where, err
}

// asFilesSums reports the hashes of files of the underlying store.
type asFilesSums struct {
	view *asFiles
	sums store.Checksummer
}

// SumKinds implements Checksummer.
func (s asFilesSums) SumKinds() []store.HashKind { return s.sums.SumKinds() }

// Sum implements Checksummer.
func (s asFilesSums) Sum(ctx context.Context, ref store.Ref, revision string, kind store.HashKind) (store.Hash, error) {
	where, err := s.view.stored(ctx, ref)
	if err != nil {
		return store.Hash{}, err
	}
	return s.sums.Sum(ctx, where, revision, kind)
}

// asFilesSharing tells the share list of a document for each of its exports.
type asFilesSharing struct {
	store.Sharing
	view *asFiles
}

// ShareList implements store.Sharing.
func (s asFilesSharing) ShareList(ctx context.Context, ref store.Ref) (store.ShareList, error) {
	where, _, _, err := s.view.find(ctx, ref)
	if err != nil {
		return store.ShareList{}, err
	}
	return s.Sharing.ShareList(ctx, where)
}

// Share implements store.Sharing.
func (s asFilesSharing) Share(ctx context.Context, ref store.Ref, with store.SharedWith) error {
	where, err := s.view.stored(ctx, ref)
	if err != nil {
		return err
	}
	return s.Sharing.Share(ctx, where, with)
}

// SetOwner implements store.Sharing.
func (s asFilesSharing) SetOwner(ctx context.Context, ref store.Ref, person string) error {
	where, err := s.view.stored(ctx, ref)
	if err != nil {
		return err
	}
	return s.Sharing.SetOwner(ctx, where, person)
}
