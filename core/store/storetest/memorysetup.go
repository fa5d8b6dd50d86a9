package storetest

import (
	"fmt"
	"strings"
	"time"

	"deftheron/core/store"
)

// Put stores a file at names, making its folders, and returns its entry.
func (m *Memory) Put(data string, names ...string) store.Entry {
	place := store.At(names...)
	m.mu.Lock()
	defer m.mu.Unlock()
	for p := place.Folder.Path; p != ""; p, _ = p.Split() {
		m.folders[p] = true
	}
	return m.put(place, []byte(data), time.Time{})
}

// PutAt is Put with a time of its own.
func (m *Memory) PutAt(data string, modified time.Time, names ...string) store.Entry {
	m.Put(data, names...)
	place := store.At(names...)
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.put(place, []byte(data), modified)
}

// Link puts a link at names, which holds nothing of its own.
func (m *Memory) Link(names ...string) {
	m.Put("", names...)
	place := store.At(names...)
	m.mu.Lock()
	defer m.mu.Unlock()
	m.files[place.Folder.Path][place.Name].link = true
}

// Start is before anything that the account's clock has told.
func (m *Memory) Start() time.Time { return time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC) }

// Folder makes the folder at names, and those that it is in.
func (m *Memory) Folder(names ...string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for p := store.MakePath(names...); p != ""; p, _ = p.Split() {
		m.folders[p] = true
	}
}

// Files returns the content of every file by its address within the account.
func (m *Memory) Files() map[string]string {
	m.mu.Lock()
	defer m.mu.Unlock()
	all := map[string]string{}
	for folder, files := range m.files {
		for name, file := range files {
			all[store.Folder{Path: folder}.Ref(name).String()] = string(file.data)
		}
	}
	return all
}

// Rename gives a file another place, as somebody else would.
func (m *Memory) Rename(from, to store.Ref) {
	m.Put("", append(to.Folder.Path.Names(), to.Name)...)
	m.mu.Lock()
	defer m.mu.Unlock()
	file := m.files[from.Folder.Path][from.Name]
	delete(m.files[from.Folder.Path], from.Name)
	m.files[to.Folder.Path][to.Name] = file
}

// renameFolder gives a folder another path, with all that is in it.
func (m *Memory) renameFolder(from, to store.Path) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for path := range m.folders {
		if rest, below := strings.CutPrefix(string(path), string(from)); below {
			delete(m.folders, path)
			m.folders[to+store.Path(rest)] = true
		}
	}
	for path, files := range m.files {
		if rest, below := strings.CutPrefix(string(path), string(from)); below {
			delete(m.files, path)
			m.files[to+store.Path(rest)] = files
		}
	}
}

// OpenUploads is how many uploads in parts have not ended.
func (m *Memory) OpenUploads() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.uploads)
}

func (m *Memory) put(place store.Ref, data []byte, modified time.Time) store.Entry {
	m.changes++
	m.now = m.now.Add(time.Second)
	if modified.IsZero() {
		modified = m.now
	}
	if m.files[place.Folder.Path] == nil {
		m.files[place.Folder.Path] = map[string]*memoryFile{}
	}
	file := &memoryFile{data: data, modified: modified, revision: fmt.Sprint("r", m.changes), version: fmt.Sprint("v", m.changes)}
	if m.Vague {
		file.revision = fmt.Sprint(len(data), ".", modified.Unix())
	}
	if before := m.files[place.Folder.Path][place.Name]; before != nil {
		file.identity = before.identity
		m.keepVersion(place, before)
	} else if m.Inodes && len(m.free) > 0 {
		file.identity, m.free = m.free[len(m.free)-1], m.free[:len(m.free)-1]
	} else if m.Inodes {
		m.inodes++
		file.identity = fmt.Sprint("inode ", m.inodes)
	}
	m.files[place.Folder.Path][place.Name] = file
	return m.entry(place.Name, file)
}
