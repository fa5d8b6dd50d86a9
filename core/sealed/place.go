// Package sealed keeps files in a folder of another store so that its provider can read
// neither their contents nor their names.
//
// [Create] creates a sealed place in an empty folder, and [Open] returns a store of its
// files. Contents are age files (age-encryption.org/v1) below contents/. The entries of a
// folder, with their names, sizes, times, hashes and the keys of the contents, are in its
// manifest below folders/: segments, which are age files of JSON Lines. Segments are only
// ever added, and merged into larger ones from time to time. docs/sealed.md describes the
// layout: it can be read with the age command alone.
//
// Files are at the provider when [store.Sync] has returned: until then names are gathered,
// so that many files share one segment.
package sealed

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"deftheron/core/store"
)

// Format is what the file of a place names.
const Format = "deft-heron-sealed-1"

// Head is the newest segment of a folder's manifest that was ever seen.
type Head struct {
	Number int
	MAC    string
}

// Heads store the last known state of each folder, so that a provider that shows an older
// state is detected. A lost record is no error: the present state is trusted then. The zero
// Head removes the record of a folder. Heads are called by several goroutines.
type Heads interface {
	Head(ctx context.Context, folder string) (Head, error)
	SaveHead(ctx context.Context, folder string, head Head) error
}

// Options are the options with which a place is opened.
type Options struct {
	Base   store.Store
	Folder store.Path // of the base
	Keys   Keys
	Heads  Heads
	// Gate is the gate of the base.
	Gate     store.Gate
	Log      *slog.Logger
	Now      func() time.Time
	ReadOnly bool
	// AutoSync is how long after a change it is written at the latest, without a call of Sync; 0 is never.
	AutoSync time.Duration
}

// about is the file of a place: place.age, sealed.
type about struct {
	Format     string   `json:"format"`
	Root       string   `json:"root"`   // the id of the folder at the start
	Secret     string   `json:"secret"` // 32 bytes in hexadecimal, of the MACs of manifests
	Recipients []string `json:"recipients"`
	// Manifests is the set of recipients that all manifests were sealed to last.
	Manifests string    `json:"manifests,omitempty"`
	Created   time.Time `json:"created"`
}

// Place is an open sealed place. It implements store.Store.
type Place struct {
	Options
	base     store.Store
	keys     Keys
	heads    Heads
	log      *slog.Logger
	now      func() time.Time
	readOnly bool
	secret   []byte
	root     string

	mu           sync.Mutex
	manifestsFor string // see about
	scratch      *scratch
	folders      map[string]*folder
	paths        map[store.Path]string // ids of folders
	dirty        map[string]*folder
	doomed       []removal         // contents to be removed once what replaces them is written
	emptied      []string          // folders of which the manifests are to be removed then
	blocks       map[string]*block // that runs write to
	open         []*block          // that are not complete
	closing      bool
	timer        *time.Timer         // of the next Sync that nobody asks for
	wentOn       bool                // what a process that ended was about to remove is removed
	whole        map[string]bool     // blocks of which nothing is to be cleaned up
	held         map[string][]string // by block, the contents of which a note says that they are kept
	made         map[string]bool     // folders of the base that are there

	loaded   atomic.Int64 // the weight of folders that were loaded or written since the last putAway
	flushing sync.Mutex
}

// The files of a place, below its folder.
const (
	placeFile    = "place.age"
	identityFile = "identity.age"
	readMeFile   = "README.txt"
	foldersPath  = "folders"
	contentsPath = "contents"
)

// readMe tells whoever finds the folder what it is.
const readMe = `This folder holds files that are sealed: their contents and their names can be read only
with a key. Nothing in it may be changed by hand.

Contents are age files (age-encryption.org/v1), and so are the manifests below "folders",
which say what is where. Deft Heron's documentation of sealed places describes the layout,
and how everything is recovered with the age command alone.
`

// Exists reports whether a sealed place is in a folder. An error is ErrExists where there is
// none and other files are: a place is made in an empty folder alone.
func Exists(ctx context.Context, base store.Store, folder store.Path) (bool, error) {
	_, err := base.Stat(ctx, store.Folder{Path: folder}.Ref(placeFile).As(store.KindFile))
	if err == nil || store.KindOf(err) != store.ErrNotFound {
		return err == nil, err
	}
	for one, err := range base.List(ctx, store.Folder{Path: folder}) {
		if store.KindOf(err) == store.ErrNotFound {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		switch one.Name {
		case identityFile, readMeFile, foldersPath, store.OwnFolder: // of one whose making broke off
		default:
			return false, store.Errorf(store.ErrExists, "%s is not empty, and no sealed place: %q is in it; choose an empty folder",
				folder.Ref(), one.Name)
		}
	}
	return false, nil
}

// Create makes a sealed place in a folder that is empty or not there. locked, where it is
// not empty, is the identity file sealed with a passphrase, and is kept in the place.
func Create(ctx context.Context, base store.Store, path store.Path, keys Keys, locked []byte) error {
	p := newPlace(Options{Base: base, Folder: path, Keys: keys})
	exists, err := Exists(ctx, base, path)
	if err != nil {
		return err
	}
	if exists {
		return store.Errorf(store.ErrExists, "there is a sealed place at %s already", path.Ref())
	}
	if p.secret, p.root, err = newSecret(); err != nil {
		return err
	}
	text, err := json.Marshal(about{
		Format: Format, Root: p.root, Secret: hex.EncodeToString(p.secret), Recipients: keys.recipients, Created: p.now().UTC(),
		Manifests: setOf(keys.recipients),
	})
	if err != nil {
		return err
	}
	placeText, err := sealText(keys, text)
	if err != nil {
		return err
	}
	if err := store.Prepare(ctx, base); err != nil {
		return err
	}
	if err := p.makeFolder(ctx, path); err != nil {
		return err
	}
	files := map[string][]byte{readMeFile: []byte(readMe), identityFile: locked}
	for _, name := range []string{readMeFile, identityFile} {
		if len(files[name]) == 0 {
			continue
		}
		if err := p.put(ctx, p.at(name), store.Any, files[name]); err != nil {
			return err
		}
	}
	start := &folder{id: p.root, fresh: true}
	if err := p.commit(ctx, start, nil); err != nil {
		return err
	}
	// Written last, because it means that the rest is complete.
	if err := p.put(ctx, p.at(placeFile), store.Absent, placeText); err != nil {
		return err
	}
	return store.Sync(ctx, base)
}

func newSecret() (secret []byte, root string, err error) {
	secret = make([]byte, 32)
	if _, err = rand.Read(secret); err != nil {
		return nil, "", err
	}
	return secret, newID(), nil
}

// newID returns a new name of something at the provider: 24 hexadecimal digits.
func newID() string {
	id := make([]byte, 12)
	_, _ = rand.Read(id) // which never fails
	return hex.EncodeToString(id)
}

// noHeads remember nothing.
type noHeads struct{}

func (noHeads) Head(context.Context, string) (Head, error)   { return Head{}, nil }
func (noHeads) SaveHead(context.Context, string, Head) error { return nil }

func newPlace(options Options) *Place {
	p := &Place{
		Options: options, base: options.Base, keys: options.Keys, heads: options.Heads, log: options.Log, now: options.Now,
		readOnly: options.ReadOnly || options.Base.Traits().ReadOnly, folders: map[string]*folder{}, paths: map[store.Path]string{},
		dirty:  map[string]*folder{},
		blocks: map[string]*block{}, whole: map[string]bool{}, held: map[string][]string{}, made: map[string]bool{},
	}
	if p.heads == nil {
		p.heads = noHeads{}
	}
	if p.now == nil {
		p.now = time.Now
	}
	if p.log == nil {
		p.log = slog.New(slog.DiscardHandler)
	}
	return p
}

// Open opens a sealed place, and reads no more than its own file. ErrNotFound where none is
// in the folder; ErrKey for keys that do not open it.
func Open(ctx context.Context, options Options) (*Place, error) {
	p := newPlace(options)
	is, err := p.readAbout(ctx)
	if err != nil {
		return nil, err
	}
	if p.secret, err = hex.DecodeString(is.Secret); err != nil || len(p.secret) != 32 || is.Root == "" {
		return nil, damaged(p.at(placeFile), errors.New("it has no secret"))
	}
	p.root, p.manifestsFor = is.Root, is.Manifests
	p.keys.recipients = is.Recipients
	return p, nil
}

// readAbout reads the file of the place.
func (p *Place) readAbout(ctx context.Context) (is about, err error) {
	text, err := p.get(ctx, p.at(placeFile))
	if err != nil {
		return is, err
	}
	plain, err := openText(p.keys, text)
	if errors.Is(err, ErrKey) {
		return is, err
	}
	if err == nil {
		err = json.Unmarshal(plain, &is)
	}
	if err != nil {
		return is, damaged(p.at(placeFile), err)
	}
	if is.Format != Format {
		return is, store.Errorf(store.ErrUnsupported, "the sealed place is of the format %q, and this version knows %s; use a newer version",
			is.Format, Format)
	}
	return is, nil
}

// LockedIdentity returns the identity file that a place keeps, sealed with a passphrase.
// ErrNotFound where it keeps none.
func LockedIdentity(ctx context.Context, base store.Store, folder store.Path) ([]byte, error) {
	p := newPlace(Options{Base: base, Folder: folder})
	return p.get(ctx, p.at(identityFile))
}

// at is the place of names below the folder of the place, as of a file.
func (p *Place) at(names ...string) store.Ref {
	path := p.Folder
	for _, name := range names[:len(names)-1] {
		path = path.Child(name)
	}
	return store.Folder{Path: path}.Ref(names[len(names)-1]).As(store.KindFile)
}

// manifest is the folder that the segments of a folder are in.
func (p *Place) manifest(id string) store.Folder {
	return store.Folder{Path: p.Folder.Child(foldersPath).Child(id)}
}

func (p *Place) segmentPlace(id string, number int) store.Ref {
	return p.manifest(id).Ref(fmt.Sprintf("%012d.age", number)).As(store.KindFile)
}

// contentPlace is where a content is.
func (p *Place) contentPlace(content string) store.Ref {
	path := p.Folder.Child(contentsPath)
	block, name := splitContent(content)
	return store.Folder{Path: path.Child(block)}.Ref(name + ".age").As(store.KindFile)
}

// admit returns a context whose requests do not wait for others that wait for them.
func (p *Place) admit(ctx context.Context) context.Context {
	if p.Gate == nil {
		return ctx
	}
	return p.Gate.Admit(ctx)
}

// makeFolder makes a folder of the base, and those that it is in, where folders have to be
// made.
func (p *Place) makeFolder(ctx context.Context, path store.Path) error {
	if path == "" || p.base.Traits().Folders == store.FoldersImplied {
		return nil
	}
	p.mu.Lock()
	made := p.made[string(path)]
	p.mu.Unlock()
	if made {
		return nil
	}
	_, err := p.base.MakeFolder(ctx, path.Ref())
	if store.KindOf(err) == store.ErrNotFound {
		parent, _ := path.Split()
		if err := p.makeFolder(ctx, parent); err != nil {
			return err
		}
		_, err = p.base.MakeFolder(ctx, path.Ref())
	}
	if err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.made) > 10_000 {
		clear(p.made)
	}
	p.made[string(path)] = true
	return nil
}

// forgetMade drops the note that a folder of the base exists, so that it is created again.
func (p *Place) forgetMade(path store.Path) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for ; path != ""; path, _ = path.Split() {
		delete(p.made, string(path))
	}
}
