package index

import (
	"context"
	"database/sql"
	"errors"
	"io"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"deftheron/core/store"
	"deftheron/core/tree"
)

const (
	// MostRead is the size in bytes of the largest file whose text is read.
	MostRead = 64 << 20
	// MostText is how many bytes of the text of one file are searched.
	MostText = 1 << 20
	// writeWithin is how long texts that were read wait for others to be written with.
	writeWithin = 2 * time.Second
	// mostTries is how often the reading of a file is tried.
	mostTries = 5
)

var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(256<<10), zstd.WithLowerEncoderMem(true))
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(8<<20), zstd.WithDecoderLowmem(true))
)

type querier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// keptText returns the text of an entry; empty if none was read.
func keptText(ctx context.Context, q querier, id int64) (string, error) {
	var kept []byte
	err := q.QueryRowContext(ctx, "SELECT kept FROM texts WHERE id = ?", id).Scan(&kept)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	text, err := unpacker.DecodeAll(kept, nil)
	return string(text), err
}

// putText adds the text of an entry to the index.
func putText(ctx context.Context, tx *sql.Tx, id int64, name, text string) error {
	if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO words (rowid, name, text) VALUES (?, ?, ?)", id, strings.ToValidUTF8(name,
		"\ufffd"),
		text); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO texts (id, length, kept) VALUES (?, ?, ?)", id, len(text),
		packer.EncodeAll([]byte(text), nil)); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE entries SET state = ?, why = '', tries = 0 WHERE id = ?", textRead, id)
	return err
}

// takeText gives a file the text of another entry of the same id and content: its own before
// it was moved, or that of another link to it, which stays.
func (w *writer) takeText(ctx context.Context, tx *sql.Tx, r *row) error {
	var other int64
	err := tx.QueryRowContext(ctx, "SELECT id FROM entries WHERE account = ? AND ref = ? AND ref <> '' AND id <> ? AND "+
		"folder = 0 AND state = ? AND size = ? AND revision = ? LIMIT 1", w.account.id, r.ref, r.id, textRead, r.size, r.revision).Scan(&other)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	text, err := keptText(ctx, tx, other)
	if err != nil {
		return err
	}
	return putText(ctx, tx, r.id, r.name, text)
}

// forgetText removes the text of an entry that has another one now.
func forgetText(ctx context.Context, tx *sql.Tx, r *row) error {
	result, err := tx.ExecContext(ctx, "DELETE FROM texts WHERE id = ?", r.id)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return err
	}
	_, err = tx.ExecContext(ctx, "INSERT OR REPLACE INTO words (rowid, name, text) VALUES (?, ?, '')", r.id, strings.ToValidUTF8(r.name,
		"\ufffd"))
	return err
}

// Reader reads the text of a file, by its name and size in bytes. why says in words why it
// cannot be read; the error is that of open, or of this machine.
type Reader interface {
	Text(ctx context.Context, name string, size int64, open func(context.Context) (io.ReadCloser, error)) (text, why string, err error)
}

// due is an entry whose text is to be read.
type dueText struct {
	row
	account int64
	tries   int
}

// nextTexts returns entries whose text is due.
func (x *Index) nextTexts(ctx context.Context, now time.Time, most int) (all []dueText, err error) {
	rows, err := x.db.read.QueryContext(ctx, "SELECT "+columns+", account, tries FROM entries WHERE state = 1 AND due <= ? ORDER BY due "+
		"LIMIT ?",
		now.Unix(), most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one dueText
		err := one.scan(func(into ...any) error { return rows.Scan(append(into, &one.account, &one.tries)...) })
		if err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, rows.Err()
}

// readTexts reads the texts that are due, and reports whether there were any.
func (x *Index) readTexts(ctx context.Context) (bool, error) {
	if size, err := x.db.size(ctx); err != nil || size > x.options.Space {
		if err == nil && !x.full.Swap(true) {
			x.options.Log.Warn("the search index is full; no further text is added", "bytes", size, "most", x.options.Space)
		}
		return false, err
	}
	x.full.Store(false)
	due, err := x.nextTexts(ctx, x.now(), 16)
	if err != nil || len(due) == 0 {
		return false, err
	}
	read, begun := make([]readText, 0, len(due)), x.now()
	for _, one := range due {
		if x.now().Sub(begun) > writeWithin {
			break // what was read is found soon
		}
		result, err := x.readText(ctx, one)
		if err != nil {
			return false, err
		}
		read = append(read, result)
	}
	return true, x.db.change(ctx, func(tx *sql.Tx) error {
		for _, one := range read {
			if err := x.keepText(ctx, tx, one); err != nil {
				return err
			}
		}
		return nil
	})
}

// readText is what became of a text that was due: it was read, or why says why not, or it is
// read later.
type readText struct {
	dueText
	text, why string
	later     time.Duration
}

// readText reads the text of one entry. The error is that of the context or of the index.
func (x *Index) readText(ctx context.Context, one dueText) (readText, error) {
	result := readText{dueText: one}
	address, ok, err := x.addressOf(ctx, one.account, one.row)
	if err != nil {
		return result, err
	}
	if !ok {
		result.why = "it is not in a linked account any more"
		return result, nil
	}
	result.text, result.why, err = x.textAt(ctx, address, one)
	switch kind := store.KindOf(err); {
	case ctx.Err() != nil:
		return result, ctx.Err()
	case err == nil:
	case kind == store.ErrNotFound, kind == store.ErrChanged:
		result.later = time.Hour // its folder is listed again by then
	case kind == store.ErrRefused, kind == store.ErrUnsupported, kind == store.ErrTooLarge:
		result.why = err.Error()
	case one.tries+1 >= mostTries:
		result.why = "it could not be read: " + err.Error()
	default:
		result.later = time.Minute << one.tries
	}
	return result, nil
}

// textAt reads the text of what is at an address.
func (x *Index) textAt(ctx context.Context, address store.Address, one dueText) (text, why string, err error) {
	located, err := x.tree.Locate(ctx, address)
	if err != nil {
		return "", "", err
	}
	place := located.Place.As(one.kind)
	if one.kind == store.KindDocument {
		node, err := x.tree.Stat(ctx, address)
		if err != nil {
			return "", "", err
		}
		format := formatOf(node)
		if format == "" {
			return "", "the document has no export that text is read from", nil
		}
		place.ID = node.ID
		return x.options.Reader.Text(ctx, "document."+format, -1, func(ctx context.Context) (io.ReadCloser, error) {
			return store.Export(ctx, located.Store, place, node.Revision, format)
		})
	}
	return x.options.Reader.Text(ctx, one.name, one.size, func(ctx context.Context) (io.ReadCloser, error) {
		return located.Store.Open(ctx, store.Reading{Place: place})
	})
}

// formatOf is the export of a document whose text is read: the simplest.
func formatOf(node tree.Node) string {
	for _, wanted := range []string{"txt", "md", "csv", "html", "odt", "ods", "odp", "docx", "xlsx", "pptx", "pdf"} {
		for _, format := range node.Exports {
			if format.Name == wanted {
				return wanted
			}
		}
	}
	return ""
}

// keepText records what became of a text that was due, unless the entry is another by now.
func (x *Index) keepText(ctx context.Context, tx *sql.Tx, one readText) error {
	var state int
	err := tx.QueryRowContext(ctx, "SELECT state FROM entries WHERE id = ? AND revision = ? AND size = ?", one.id, one.revision,
		one.size).Scan(&state)
	switch {
	case errors.Is(err, sql.ErrNoRows), err == nil && state != textDue:
		return nil
	case err != nil:
		return err
	case one.later > 0:
		_, err := tx.ExecContext(ctx, "UPDATE entries SET due = ?, tries = tries + 1 WHERE id = ?", x.now().Add(one.later).Unix(), one.id)
		return err
	case one.why == "":
		return putText(ctx, tx, one.id, one.name, one.text)
	}
	if err := forgetText(ctx, tx, &one.row); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "UPDATE entries SET state = ?, why = ? WHERE id = ?", textUnread, one.why[:min(len(one.why), 500)], one.id)
	return err
}
