package store

import (
	"cmp"
	"fmt"
	"regexp"
	"strings"
)

// Path is the way from an account's start to a folder: every name followed by
// "/", so that "" is the start and "a/b/" the folder b in a. A slash that is
// part of a name is held as a NUL byte, which no name may contain; so paths
// sort as raw bytes, and an empty name, which object stores have, is a name
// like any other ("a//" is the folder with the empty name in a).
type Path string

// MakePath returns the path of the folder at the end of names.
func MakePath(names ...string) Path {
	var p Path
	for _, name := range names {
		p = p.Child(name)
	}
	return p
}

// Child returns the path of the folder called name in p.
func (p Path) Child(name string) Path {
	return p + Path(strings.ReplaceAll(name, "/", "\x00")) + "/"
}

// Names returns the names from the account's start to p.
func (p Path) Names() []string {
	if p == "" {
		return nil
	}
	names := strings.Split(string(p[:len(p)-1]), "/")
	for i, name := range names {
		names[i] = strings.ReplaceAll(name, "\x00", "/")
	}
	return names
}

// Split returns the folder that p is in and its own name. The start is in
// itself and has the empty name.
func (p Path) Split() (parent Path, name string) {
	if p == "" {
		return "", ""
	}
	rest := string(p[:len(p)-1])
	cut := strings.LastIndexByte(rest, '/') + 1
	return Path(rest[:cut]), strings.ReplaceAll(rest[cut:], "\x00", "/")
}

// Local returns the path as a relative path of POSIX, "." for the start. It is
// the caller's to make sure that no name is ".." or holds a slash.
func (p Path) Local() string {
	if p == "" {
		return "."
	}
	return string(p[:len(p)-1])
}

// Ref returns the folder p as an entry of the folder that it is in.
func (p Path) Ref() Ref {
	if p == "" {
		return Ref{}
	}
	parent, name := p.Split()
	return Folder{Path: parent}.Ref(name).As(KindFolder)
}

// address returns the path in the form of an address, with its last slash.
func (p Path) address() string {
	var b strings.Builder
	for _, name := range p.Names() {
		b.WriteString(escapeStep(name))
		b.WriteByte('/')
	}
	return b.String()
}

// Key names an entry relative to some folder, in the form in which the engine
// sorts and records entries: the path of its folder relative to that one, the
// entry's own name, and for a folder a closing "/". Keys compare as raw bytes, so
// the depth-first order of a tree is the order of a flat listing. If a folder and
// a file have the same key (an object "a/" with content is a file with the empty
// name in the folder "a/"), the folder comes first.
type Key string

// KeyOf returns the key of an entry in the folder below, which is relative to
// the folder that keys are counted from.
func KeyOf(below Path, name string, kind Kind) Key {
	key := string(below) + strings.ReplaceAll(name, "/", "\x00")
	if kind == KindFolder {
		key += "/"
	}
	return Key(key)
}

// Split returns the folder and the name of a key whose entry is of that kind.
func (k Key) Split(kind Kind) (below Path, name string) {
	if kind == KindFolder {
		return Path(k).Split()
	}
	cut := strings.LastIndexByte(string(k), '/') + 1
	return Path(k[:cut]), strings.ReplaceAll(string(k[cut:]), "\x00", "/")
}

// Ref returns the place of the key below a folder.
func (k Key) Ref(root Path, kind Kind) Ref {
	below, name := k.Split(kind)
	return Folder{Path: root + below}.Ref(name).As(kind)
}

// CompareKeys orders two entries: by key, and where they are the same, a
// folder before anything else.
func CompareKeys(a Key, aKind Kind, b Key, bKind Kind) int {
	if c := strings.Compare(string(a), string(b)); c != 0 {
		return c
	}
	return cmp.Compare(kindRank(aKind), kindRank(bKind))
}

func kindRank(kind Kind) int {
	if kind == KindFolder {
		return 0
	}
	return 1
}

// CheckName returns ErrNameRefused for a name that no account can hold.
func CheckName(name string) error {
	if strings.IndexByte(name, 0) >= 0 {
		return Errorf(ErrNameRefused, "the name %q holds a NUL byte", name)
	}
	return nil
}

// Ours reports whether a name belongs to Deft Heron and is left out of listings: the
// folder ".heron" at an account's start, and the names of [ArrivingName]. Other names
// that begin in the same way belong to users.
func Ours(parent Path, name string) bool {
	return parent == "" && name == OwnFolder || strings.HasPrefix(name, ArrivingPrefix) && arriving.MatchString(name)
}

// arriving matches the names of ArrivingName: a run, and an attempt of twelve or sixteen
// hexadecimal digits, or a file that is kept aside.
var arriving = regexp.MustCompile(`^\.heron-arriving-[0-9A-Za-z]+-([0-9a-f]{12}|[0-9a-f]{16}|aside-(?s:.+)|asides)$`)

// LeftBy reports whether a name is one that [ArrivingName] made for a run.
func LeftBy(run, name string) bool {
	return strings.HasPrefix(name, ArrivingName(run, "")) && arriving.MatchString(name)
}

const (
	// OwnFolder is the folder at an account's start for Deft Heron's own files.
	OwnFolder = ".heron"
	// HistoryFolder is the folder in it for contents that runs have replaced or deleted.
	// Every file there has a unique name.
	HistoryFolder = Path(OwnFolder + "/history/")
	// ArrivingPrefix begins the name of a file that is still arriving, where
	// a provider has no atomic write.
	ArrivingPrefix = ".heron-arriving-"
)

// ArrivingName is the name of a file on its way, by run and attempt.
func ArrivingName(run, attempt string) string {
	return fmt.Sprintf("%s%s-%s", ArrivingPrefix, run, attempt)
}
