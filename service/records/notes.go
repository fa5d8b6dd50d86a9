package records

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"deftheron/core/transfer"
)

// notebook keeps the last notes of runs, see [transfer.Note], in two files beside the
// database: one is written to, and the other has those before. Nothing is synced. Each
// line is of JSON; one that breaks off is skipped.
type notebook struct {
	mu      sync.Mutex
	paths   [2]string
	current int // the index of the file that is written to
	file    *os.File
	lines   int
}

// mostNotes is how many notes a file holds: many times more than items can be between
// their note and their ending in the records.
const mostNotes = 5000

type noteLine struct {
	Run  string
	Note transfer.Note
}

func openNotebook(dir string) (*notebook, error) {
	n := &notebook{}
	for i, name := range []string{"notes-1", "notes-2"} {
		n.paths[i] = filepath.Join(dir, name)
	}
	newest, at := 0, int64(0)
	for i, path := range n.paths {
		if info, err := os.Stat(path); err == nil && info.ModTime().UnixNano() > at {
			newest, at = i, info.ModTime().UnixNano()
		}
	}
	if at == 0 {
		return n, nil
	}
	n.current = newest
	notes, err := read(n.paths[newest])
	n.lines = len(notes)
	return n, err
}

func (n *notebook) add(line noteLine) error {
	text, err := json.Marshal(line)
	if err != nil {
		return err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.file != nil && n.lines >= mostNotes {
		n.file.Close()
		n.file, n.lines, n.current = nil, 0, 1-n.current
		if err := os.Remove(n.paths[n.current]); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if n.file == nil {
		if n.file, err = os.OpenFile(n.paths[n.current], os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600); err != nil {
			return err
		}
	}
	n.lines++
	// A line that broke off before does not spoil this one.
	_, err = n.file.Write(slices.Concat([]byte("\n"), text, []byte("\n")))
	return err
}

func (n *notebook) of(run string) (map[int64]transfer.Note, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	notes := map[int64]transfer.Note{}
	for _, path := range []string{n.paths[1-n.current], n.paths[n.current]} {
		lines, err := read(path)
		if err != nil {
			return nil, err
		}
		for _, line := range lines {
			if line.Run == run {
				notes[line.Note.Seq] = line.Note
			}
		}
	}
	return notes, nil
}

func read(path string) (lines []noteLine, err error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for line := range bytes.Lines(text) {
		var one noteLine
		if json.Unmarshal(line, &one) == nil && one.Run != "" {
			lines = append(lines, one)
		}
	}
	return lines, err
}

func (n *notebook) close() error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.file == nil {
		return nil
	}
	return n.file.Close()
}

// Note implements transfer.Records.
func (db *DB) Note(run string, note transfer.Note) error {
	return db.notes.add(noteLine{run, note})
}

// Noted implements transfer.Records.
func (db *DB) Noted(ctx context.Context, run string) (noted []transfer.Noted, err error) {
	notes, err := db.notes.of(run)
	if err != nil {
		return nil, err
	}
	for seq, note := range notes {
		items, err := db.items(ctx, "seq = ? AND state = 'waiting'", run, seq)
		if err != nil {
			return nil, err
		}
		for _, item := range items {
			noted = append(noted, transfer.Noted{Item: item, Note: note})
		}
	}
	slices.SortFunc(noted, func(a, b transfer.Noted) int { return int(a.Item.Seq - b.Item.Seq) })
	return noted, nil
}
