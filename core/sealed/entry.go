package sealed

import (
	"encoding/json"
	"time"
	"unicode/utf8"

	"deftheron/core/store"
)

// entry is a line of a manifest: a name in a folder, and what it is.
type entry struct {
	// Name, or Name64 where it is not UTF-8.
	Name   string `json:"name,omitempty"`
	Name64 []byte `json:"name64,omitempty"`
	// Removed is the kind of the removed entry with that name: "file" or "folder".
	Removed string `json:"removed,omitempty"`
	// Folder is the id of a folder.
	Folder string `json:"folder,omitempty"`

	// Content is where the content of a file is below contents/, without .age.
	Content  string    `json:"content,omitempty"`
	Size     int64     `json:"size,omitempty"` // bytes, opened
	Modified time.Time `json:"modified,omitzero"`
	// Key is the file key of the content, 16 bytes, and the nonce of its payload, 16 bytes.
	Key []byte `json:"key,omitempty"`
	// Header is how many bytes are before the payload: the header of age and the nonce.
	Header int64    `json:"header,omitempty"`
	Hashes []string `json:"hashes,omitempty"`
	// For is the set of recipients that the content is sealed to.
	For string `json:"for,omitempty"`

	// Moving is where the entry is on its way to, in another folder: it is there if that
	// says so, and else here.
	Moving *target `json:"moving,omitempty"`
	// From is the folder that the entry has come from last.
	From string `json:"from,omitempty"`
}

// target is a name in a folder.
type target struct {
	Folder string `json:"folder"`
	Name   string `json:"name,omitempty"`
	Name64 []byte `json:"name64,omitempty"`
}

func (e *entry) setName(name string) { e.Name, e.Name64 = encodeName(name) }

func encodeName(name string) (text string, raw []byte) {
	if utf8.ValidString(name) && name != "" {
		return name, nil
	}
	return "", []byte(name)
}

func (e *entry) name() string {
	if e.Name != "" {
		return e.Name
	}
	return string(e.Name64)
}

func (t *target) name() string {
	if t.Name != "" {
		return t.Name
	}
	return string(t.Name64)
}

func targetOf(folder, name string) *target {
	to := &target{Folder: folder}
	to.Name, to.Name64 = encodeName(name)
	return to
}

func (e *entry) isFolder() bool { return e.Folder != "" || e.Removed == removedFolder }

const removedFile, removedFolder = "file", "folder"

// kind returns what the entry is.
func (e *entry) kind() store.Kind {
	if e.isFolder() {
		return store.KindFolder
	}
	return store.KindFile
}

// key sorts entries, and names what an entry replaces.
func (e *entry) key() store.Key { return store.KeyOf("", e.name(), e.kind()) }

// id returns the id of a content or a folder, which is its revision.
func (e *entry) id() string {
	switch {
	case e == nil:
		return ""
	case e.Folder != "":
		return e.Folder
	}
	return e.Content
}

// removedEntry returns the line that records the removal of an entry.
func removedEntry(e *entry) *entry {
	gone := &entry{Name: e.Name, Name64: e.Name64, Removed: removedFile}
	if e.isFolder() {
		gone.Removed = removedFolder
	}
	return gone
}

// shown is the entry as a store gives it out.
func (e *entry) shown() store.Entry {
	if e.Folder != "" {
		return store.Entry{Name: e.name(), Kind: store.KindFolder}
	}
	shown := store.Entry{
		Name: e.name(), Kind: store.KindFile, Size: e.Size, Modified: e.Modified, Revision: e.Content, Identity: e.Content,
	}
	for _, text := range e.Hashes {
		if hash, ok := store.ParseHash(text); ok {
			shown.Hashes = append(shown.Hashes, hash)
		}
	}
	return shown
}

func parseEntry(line []byte) (*entry, error) {
	var e entry
	err := json.Unmarshal(line, &e)
	return &e, err
}

// head is the first line of a segment.
type head struct {
	Folder string `json:"folder"`
	Number int    `json:"number"` // from 1
	// From is the first of the segments that this one stands for; all of From to Number-1
	// may be removed.
	From int `json:"first"`
	// Previous is the MAC of the segment before From; empty where there is none.
	Previous string `json:"previous,omitempty"`
	// For is the set of recipients that the segment is sealed to.
	For string `json:"for,omitempty"`
}

// tail is the last line of a segment: a keyed BLAKE3 of all lines before it, with the
// secret of the place, which its provider does not know.
type tail struct {
	MAC string `json:"mac"`
}

// tailBegins tells the last line from an entry.
var tailBegins = []byte(`{"mac":`)
