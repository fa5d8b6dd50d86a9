package standin

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// node is one file, folder or document of a stand-in.
type node struct {
	ID       string    `json:"id"`
	Parent   string    `json:"parent"`
	Name     string    `json:"name"`
	Kind     string    `json:"kind"` // folder, file, or a kind of document
	Size     int64     `json:"size"`
	Version  int64     `json:"version"`
	Created  time.Time `json:"created"`
	Modified time.Time `json:"modified"`
	MD5      string    `json:"md5,omitempty"`    // hexadecimal
	SHA256   string    `json:"sha256,omitempty"` // hexadecimal
	Trashed  bool      `json:"trashed,omitempty"`
	Blob     string    `json:"blob,omitempty"` // the file that holds its bytes
	Text     string    `json:"text,omitempty"` // what a document says
	Old      []old     `json:"old,omitempty"`  // what it was before
	Shares   shares    `json:"shares,omitzero"`
}

// old is an earlier version of a file.
type old struct {
	Version int64  `json:"version"`
	Blob    string `json:"blob"`
	Size    int64  `json:"size"`
}

// changed is one entry of the list of changes.
type changed struct {
	Sequence int64
	ID       string
	Path     string // where the node was when it changed
	Gone     bool
}

// drive keeps the nodes of a stand-in in memory and the bytes in a folder.
type drive struct {
	dir   string
	quota int64

	mu       sync.Mutex
	Nodes    map[string]*node    `json:"nodes"`
	Next     int64               `json:"next"`
	Sequence int64               `json:"sequence"`
	children map[string][]string // ids by parent, in the order in which they were made
	changes  []changed
	forgot   int64 // changes up to here are no longer known
	woken    chan struct{}
	used     int64
}

var errQuota = errors.New("the quota is used up")

// openDrive takes up what the folder holds.
func openDrive(dir string) (*drive, error) {
	d := &drive{dir: dir, Nodes: map[string]*node{}, children: map[string][]string{}, woken: make(chan struct{})}
	if err := os.MkdirAll(filepath.Join(dir, "bytes"), 0o700); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(filepath.Join(dir, "nodes.json"))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return d, nil
	case err != nil:
		return nil, err
	}
	if err := json.Unmarshal(data, d); err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(dir, "nodes.json"), err)
	}
	d.forgot = d.Sequence
	for id, n := range d.Nodes {
		d.children[n.Parent] = append(d.children[n.Parent], id)
		d.used += n.Size
	}
	for _, ids := range d.children {
		slices.SortFunc(ids, func(a, b string) int { return d.Nodes[a].Created.Compare(d.Nodes[b].Created) })
	}
	return d, nil
}

// save keeps the nodes for the next start.
func (d *drive) save() error {
	d.mu.Lock()
	data, err := json.Marshal(d)
	d.mu.Unlock()
	if err != nil {
		return err
	}
	fresh := filepath.Join(d.dir, "nodes.json.new")
	if err := os.WriteFile(fresh, data, 0o600); err != nil {
		return err
	}
	return os.Rename(fresh, filepath.Join(d.dir, "nodes.json"))
}

// add adds a node. d.mu is held.
func (d *drive) add(n *node) *node {
	d.Next++
	if n.ID == "" {
		n.ID = fmt.Sprintf("%s%07d", n.Kind[:1], d.Next)
	}
	n.Created = time.Now()
	if n.Modified.IsZero() {
		n.Modified = n.Created
	}
	n.Version = d.Next
	d.Nodes[n.ID] = n
	d.children[n.Parent] = append(d.children[n.Parent], n.ID)
	d.used += n.Size
	d.note(n, false)
	return n
}

// root makes a folder that is in nothing.
func (d *drive) root(id, name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.Nodes[id] == nil {
		d.add(&node{ID: id, Name: name, Kind: "folder"})
	}
}

// note writes a change down and wakes whoever waits for one. d.mu is held.
func (d *drive) note(n *node, gone bool) {
	d.Sequence++
	d.changes = append(d.changes, changed{d.Sequence, n.ID, d.path(n), gone})
	const most = 20_000
	if len(d.changes) > most {
		d.forgot = d.changes[most/2].Sequence
		d.changes = slices.Clone(d.changes[most/2+1:])
	}
	close(d.woken)
	d.woken = make(chan struct{})
}

// path is where a node is, from its root. d.mu is held.
func (d *drive) path(n *node) string {
	path := ""
	for at := n; at != nil && at.Parent != ""; at = d.Nodes[at.Parent] {
		path = "/" + at.Name + path
	}
	return path
}

// there reports whether a node, and all that it is in, is not in the trash.
// d.mu is held.
func (d *drive) there(n *node) bool {
	for at := n; at != nil; at = d.Nodes[at.Parent] {
		if at.Trashed {
			return false
		}
		if at.Parent == "" {
			return true
		}
	}
	return false
}

// move puts a node into another folder, under another name. d.mu is held.
func (d *drive) move(n *node, parent, name string) {
	before := *n
	d.note(&before, n.Parent != parent || n.Name != name)
	ids := d.children[n.Parent]
	d.children[n.Parent] = slices.DeleteFunc(ids, func(id string) bool { return id == n.ID })
	n.Parent, n.Name = parent, name
	d.children[parent] = append(d.children[parent], n.ID)
	d.note(n, false)
}

// drop takes a node out for good. d.mu is held.
func (d *drive) drop(n *node) {
	for _, id := range slices.Clone(d.children[n.ID]) {
		d.drop(d.Nodes[id])
	}
	d.note(n, true)
	d.children[n.Parent] = slices.DeleteFunc(d.children[n.Parent], func(id string) bool { return id == n.ID })
	d.used -= n.Size
	delete(d.Nodes, n.ID)
}

// replace gives a file new bytes. d.mu is held.
func (d *drive) replace(n *node, b blob, modified time.Time) {
	n.Old = append(n.Old, old{n.Version, n.Blob, n.Size})
	d.used += b.size - n.Size
	d.Next++
	n.Version, n.Blob, n.Size, n.MD5, n.SHA256 = d.Next, b.name, b.size, b.md5, b.sha256
	if n.Modified = modified; modified.IsZero() {
		n.Modified = time.Now()
	}
	d.note(n, false)
}

// full reports whether so many bytes more are too many. d.mu is held.
func (d *drive) full(more int64) bool { return d.quota > 0 && d.used+more > d.quota }

func (d *drive) setQuota(bytes int64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.quota = bytes
}

// blob is bytes that have arrived.
type blob struct {
	name        string
	size        int64
	md5, sha256 string
}

func (d *drive) blobPath(name string) string { return filepath.Join(d.dir, "bytes", name) }

// keep writes bytes into the folder.
func (d *drive) keep(r io.Reader) (blob, error) {
	d.mu.Lock()
	quota, used := d.quota, d.used
	d.mu.Unlock()
	file, err := os.CreateTemp(filepath.Join(d.dir, "bytes"), "b*")
	if err != nil {
		return blob{}, err
	}
	defer file.Close()
	five, two := md5.New(), sha256.New()
	if quota > 0 {
		r = &limited{r: r, left: quota - used}
	}
	size, err := io.Copy(io.MultiWriter(file, five, two), r)
	if err != nil {
		os.Remove(file.Name())
		return blob{}, err
	}
	return blob{filepath.Base(file.Name()), size, hex.EncodeToString(five.Sum(nil)), hex.EncodeToString(two.Sum(nil))}, nil
}

type limited struct {
	r    io.Reader
	left int64
}

func (l *limited) Read(p []byte) (int, error) {
	n, err := l.r.Read(p)
	if l.left -= int64(n); l.left < 0 {
		return 0, errQuota
	}
	return n, err
}

// open opens a node's bytes.
func (d *drive) open(name string) (*os.File, error) { return os.Open(d.blobPath(name)) }

// since returns the changes after a sequence; ok is false where they are no
// longer known. d.mu is held.
func (d *drive) since(sequence int64, most int) (list []changed, ok bool) {
	if sequence < d.forgot || sequence > d.Sequence {
		return nil, false
	}
	at, _ := slices.BinarySearchFunc(d.changes, sequence+1, func(c changed, s int64) int { return int(c.Sequence - s) })
	return d.changes[at:min(len(d.changes), at+most)], true
}

// glitch is that of Control.Glitch.
func (d *drive) glitch(below string) (lost, back int, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, id := range slices.Sorted(maps.Keys(d.Nodes)) {
		n := d.Nodes[id]
		if n.Kind != "file" || !d.there(n) || !strings.HasPrefix(d.path(n), below+"/") {
			continue
		}
		if len(n.Old) == 0 {
			d.drop(n)
			lost++
			continue
		}
		first := n.Old[0]
		b, err := d.summed(first)
		if err != nil {
			return lost, back, err
		}
		d.replace(n, b, n.Created)
		n.Old = nil
		back++
	}
	return lost, back, nil
}

// summed is an earlier version, with its hashes.
func (d *drive) summed(version old) (blob, error) {
	file, err := d.open(version.Blob)
	if err != nil {
		return blob{}, err
	}
	defer file.Close()
	five, two := md5.New(), sha256.New()
	_, err = io.Copy(io.MultiWriter(five, two), file)
	return blob{version.Blob, version.Size, hex.EncodeToString(five.Sum(nil)), hex.EncodeToString(two.Sum(nil))}, err
}
