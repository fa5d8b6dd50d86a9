package site

import (
	"time"

	"deftheron/core/store"
)

// arguments are the arguments of all operations; each uses some of them.
type arguments struct {
	Ref      *ref             `cbor:",omitempty"`
	To       *ref             `cbor:",omitempty"`
	Folder   *folder          `cbor:",omitempty"`
	Revision string           `cbor:",omitempty"`
	Run      string           `cbor:",omitempty"`
	Cursor   string           `cbor:",omitempty"`
	Format   string           `cbor:",omitempty"`
	Version  string           `cbor:",omitempty"`
	Upload   string           `cbor:",omitempty"`
	Token    string           `cbor:",omitempty"`
	Person   string           `cbor:",omitempty"`
	Kind     store.HashKind   `cbor:",omitempty"`
	Wait     time.Duration    `cbor:",omitempty"`
	Until    moment           `cbor:",omitempty"`
	Number   int              `cbor:",omitempty"`
	Size     int64            `cbor:",omitempty"`
	Parts    []store.Part     `cbor:",omitempty"`
	Reading  *reading         `cbor:",omitempty"`
	Writing  *writing         `cbor:",omitempty"`
	Cleaning *cleaning        `cbor:",omitempty"`
	With     store.SharedWith `cbor:",omitempty"`
	Opening  *opening         `cbor:",omitempty"`
	Carry    *carry           `cbor:",omitempty"`
	Consent  *consent         `cbor:",omitempty"`
	Known    uint64           `cbor:",omitempty"` // the description that the service has
}

func (a *arguments) ref() store.Ref {
	if a.Ref == nil {
		return store.Ref{}
	}
	return a.Ref.ref()
}

func (a *arguments) to() store.Ref {
	if a.To == nil {
		return store.Ref{}
	}
	return a.To.ref()
}

func (a *arguments) folder() store.Folder {
	if a.Folder == nil {
		return store.Folder{}
	}
	return a.Folder.folder()
}

// reading is a store.Reading.
type reading struct {
	Place          ref
	Revision       string
	Offset, Length int64
	Growing        bool
}

func readingOf(r store.Reading) *reading {
	return &reading{Place: refOf(r.Place), Revision: r.Revision, Offset: r.Offset, Length: r.Length, Growing: r.Growing}
}

func (r *reading) reading() store.Reading {
	if r == nil {
		return store.Reading{}
	}
	return store.Reading{Place: r.Place.ref(), Revision: r.Revision, Offset: r.Offset, Length: r.Length, Growing: r.Growing}
}

// writing is a store.Writing without its content.
type writing struct {
	Place        ref
	Size         int64
	Modified     moment
	Any          bool
	AtRevision   string
	Run          string
	Keep         ref
	Verification store.VerifyLevel
}

func writingOf(w store.Writing) *writing {
	of := &writing{Place: refOf(w.Place), Size: w.Size, Modified: momentOf(w.Modified), Run: w.Run, Keep: refOf(w.Keep),
		Verification: w.Verification}
	revision, atRevision := w.If.Expect()
	of.AtRevision, of.Any = revision, !w.If.IsAbsent() && !atRevision
	return of
}

func (w *writing) writing(content store.Content) store.Writing {
	if w == nil {
		return store.Writing{}
	}
	of := store.Writing{Place: w.Place.ref(), Size: w.Size, Modified: w.Modified.time(), Run: w.Run, Keep: w.Keep.ref(),
		Verification: w.Verification, Content: content}
	switch {
	case w.Any:
		of.If = store.Any
	case w.AtRevision != "":
		of.If = store.AtRevision(w.AtRevision)
	}
	return of
}

// cleaning is a store.Cleaning.
type cleaning struct {
	Run         string
	Folder      folder
	Uploads     []ref
	OnlyUploads bool
	Keep        map[string]bool
}

func cleaningOf(c store.Cleaning) *cleaning {
	of := &cleaning{Run: c.Run, Folder: folderOf(c.Folder), OnlyUploads: c.OnlyUploads, Keep: c.Keep}
	for _, upload := range c.Uploads {
		of.Uploads = append(of.Uploads, refOf(upload))
	}
	return of
}

func (c *cleaning) cleaning() store.Cleaning {
	if c == nil {
		return store.Cleaning{}
	}
	of := store.Cleaning{Run: c.Run, Folder: c.Folder.folder(), OnlyUploads: c.OnlyUploads, Keep: c.Keep}
	for _, upload := range c.Uploads {
		of.Uploads = append(of.Uploads, upload.ref())
	}
	return of
}

// leftover is a store.Leftover.
type leftover struct {
	Run    string
	Place  ref
	Upload string
}

// written is a store.Written.
type written struct {
	Entry        entry
	Verification string
	ReadBack     bool
}

func writtenOf(w store.Written) written {
	return written{Entry: entryOf(w.Entry), Verification: w.Verification.String(), ReadBack: w.ReadBack}
}

func (w written) written() store.Written {
	hash, _ := store.ParseHash(w.Verification)
	return store.Written{Entry: w.Entry.entry(), Verification: hash, ReadBack: w.ReadBack}
}

// change is a store.Change, and page a store.ChangePage.
type change struct {
	Place ref
	Entry entry
	Gone  bool
	Since moment
}

type page struct {
	Changes []change
	Cursor  string
	More    bool
}

func pageOf(p store.ChangePage) page {
	of := page{Cursor: p.Cursor, More: p.More}
	for _, c := range p.Changes {
		of.Changes = append(of.Changes, change{refOf(c.Place), entryOf(c.Entry), c.Gone, momentOf(c.Since)})
	}
	return of
}

func (p page) page() store.ChangePage {
	of := store.ChangePage{Cursor: p.Cursor, More: p.More}
	for _, c := range p.Changes {
		of.Changes = append(of.Changes, store.Change{Place: c.Place.ref(), Entry: c.Entry.entry(), Gone: c.Gone, Since: c.Since.time()})
	}
	return of
}

// opening is what a worker opens an account with.
type opening struct {
	Name       string // of the account, for errors and logs
	Provider   string
	Definition []byte `cbor:",omitempty"` // of the provider, where it is not one that the program brings
	Options    map[string]string
	Start      string
	ReadOnly   bool
	Secret     []byte `cbor:",omitempty"` // sealed to the worker
	Lent       bool   `cbor:",omitempty"` // the secret is good for a short time
	Now        moment `cbor:",omitempty"` // by the clock of the service
}

// contentHead comes before a content.
type contentHead struct {
	Kind   store.HashKind // that is computed of it
	Hashes []string       // of all of it, where the source keeps some
}
