package names

import (
	"crypto/sha256"
	"encoding/hex"
	"path"
	"strings"

	"deftheron/core/store"
)

// Mapper gives every key of a source the key that it has at the target. It is for
// one goroutine.
type Mapper struct {
	source, target         *Translator
	sourceRoot, targetRoot store.Path
	folding                bool
	// Template makes the names of files, where it is not nil; folders are
	// those that it names.
	Template *Template
	// Refuse leaves names as they are: one that the target cannot hold is an
	// error.
	Refuse bool

	folders map[store.Path]folder
	twins   map[store.Path]store.Path
}

type folder struct {
	path store.Path
	err  error
}

// mostFolders bounds the folders whose keys are remembered.
const mostFolders = 1024

// NewMapper returns a mapper between the folders at two paths of accounts.
func NewMapper(source store.Traits, sourceRoot store.Path, target store.Traits, targetRoot store.Path) *Mapper {
	return &Mapper{
		source: For(source), target: For(target), sourceRoot: sourceRoot, targetRoot: targetRoot,
		folding: target.CaseIgnored, folders: map[store.Path]folder{}, twins: map[store.Path]store.Path{},
	}
}

// InOrder reports whether the keys of the target come in the order of the
// source's, but for the few that are translated.
func (m *Mapper) InOrder() bool { return m.Template == nil && !m.folding }

// Match is what the key that is wanted and the key that is there have in common,
// where they are the same to the target. Matches are in the order of a tree.
func (m *Mapper) Match(key store.Key) string {
	if m.folding {
		return Fold(string(key))
	}
	return string(key)
}

// Names reports whether an entry has a key at the target at all: a template names
// files alone.
func (m *Mapper) Names(kind store.Kind) bool {
	return m.Template == nil || kind != store.KindFolder
}

// Key is the key that a source's entry is to have at the target. The error is
// ErrNameRefused, for a name that cannot be translated.
func (m *Mapper) Key(listed store.Listed) (store.Key, error) {
	key := listed.Key()
	if key == "" {
		return "", nil // a single file, which was named when its route was made
	}
	if m.Template != nil {
		return m.fromTemplate(listed)
	}
	below, err := m.folder(listed.Below)
	if err != nil {
		return "", err
	}
	if listed.Kind == store.KindFolder {
		if twin, ok := m.twins[store.Path(key)]; ok {
			return store.Key(twin), nil
		}
	}
	name, err := m.name(listed.Below, below, listed.Name)
	if err != nil {
		return "", err
	}
	if name == listed.Name && below == listed.Below {
		return key, nil
	}
	return store.KeyOf(below, name, listed.Kind), nil
}

// name translates one name: home from the source's folder, put to the target's.
func (m *Mapper) name(from, to store.Path, name string) (string, error) {
	if m.Refuse {
		return name, m.target.traits.NameError(m.targetRoot+to, name)
	}
	return m.target.Put(m.targetRoot+to, m.source.Home(m.sourceRoot+from, name))
}

// folder is the path at the target of a folder of the source.
func (m *Mapper) folder(below store.Path) (store.Path, error) {
	if below == "" {
		return "", nil
	}
	if twin, ok := m.twins[below]; ok {
		return twin, nil
	}
	if known, ok := m.folders[below]; ok {
		return known.path, known.err
	}
	parent, name := below.Split()
	path, err := m.folder(parent)
	if err == nil {
		if name, err = m.name(parent, path, name); err == nil {
			path = path.Child(name)
		}
	}
	if len(m.folders) >= mostFolders {
		clear(m.folders)
	}
	m.folders[below] = folder{path, err}
	return path, err
}

// fromTemplate names a file by the template.
func (m *Mapper) fromTemplate(listed store.Listed) (store.Key, error) {
	steps := m.Template.Expand(File{Name: listed.Name, Folder: listed.Below.Names(), Modified: listed.Modified})
	below := store.Path("")
	for i, step := range steps {
		name, err := m.target.Put(m.targetRoot+below, step)
		if err != nil {
			return "", err
		}
		if i == len(steps)-1 {
			return store.KeyOf(below, name, listed.Kind), nil
		}
		below = below.Child(name)
	}
	return "", store.Errorf(store.ErrNameRefused, "the template makes no name of %q", listed.Name)
}

// Back is the key at the source of what has a translated name at the target; ok is
// false where no name on the way is translated, and with a template.
func (m *Mapper) Back(key store.Key, kind store.Kind) (back store.Key, ok bool) {
	if m.Template != nil || m.Refuse || strings.IndexByte(string(key), '%') < 0 {
		return key, false
	}
	below, name := key.Split(kind)
	from, to := store.Path(""), store.Path("")
	for _, step := range append(below.Names(), name) {
		original, err := m.source.Put(m.sourceRoot+from, m.target.Home(m.targetRoot+to, step))
		if err != nil {
			return key, false
		}
		from, to = from.Child(original), to.Child(step)
	}
	parent, last := from.Split()
	back = store.KeyOf(parent, last, kind)
	return back, back != key
}

// Twin is the key of an entry whose own is taken by another entry of the source,
// which differs from it by letter case alone, or to which the template gives the
// same name. What is in a folder follows it from then on.
func (m *Mapper) Twin(listed store.Listed, wanted, taken store.Key) (store.Key, error) {
	below, name := wanted.Split(listed.Kind)
	_, other := taken.Split(listed.Kind)
	var twin string
	var err error
	if m.Template != nil || name == other {
		twin, err = m.target.Put(m.targetRoot+below, marked(name, listed.Key()))
	} else {
		twin, err = m.target.Twin(m.targetRoot+below, name, other)
	}
	if err != nil {
		return "", err
	}
	key := store.KeyOf(below, twin, listed.Kind)
	if listed.Kind == store.KindFolder {
		m.Follow(listed.Key(), key)
	}
	return key, nil
}

// Follow gives a folder of the source another name at the target than its own; what
// is in it follows it from then on.
func (m *Mapper) Follow(folder, to store.Key) {
	m.twins[store.Path(folder)] = store.Path(to)
	clear(m.folders)
}

// Moved reports whether an entry is in a folder that has become a twin, so that
// its key is not what it was before.
func (m *Mapper) Moved(listed store.Listed) bool {
	if len(m.twins) == 0 {
		return false
	}
	for below := listed.Below; below != ""; below, _ = below.Split() {
		if _, ok := m.twins[below]; ok {
			return true
		}
	}
	return false
}

// marked is a name with a mark of the key that it is of: the same one each time,
// whatever else has the name.
func marked(name string, key store.Key) string {
	sum := sha256.Sum256([]byte(key))
	extension := path.Ext(name)
	stem := strings.TrimSuffix(name, extension)
	if stem == "" {
		stem, extension = name, ""
	}
	return stem + " ~" + hex.EncodeToString(sum[:3]) + extension
}
