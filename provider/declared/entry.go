package declared

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"net/url"
	"strings"
	"time"

	"deftheron/core/store"
	"deftheron/provider/declared/jq"
)

// found is an entry as the service tells it, with what only addressing needs.
type found struct {
	store.Entry
	created  string
	parent   string
	path     string
	excluded bool
	home     string
	facts    map[string]any
}

// kind is the kind of hash as stores name it.
func (h Hash) kind() store.HashKind {
	if h.Block == 0 {
		return store.HashKind(h.Kind)
	}
	inner := h.Inner
	if inner == "" {
		inner = h.Kind
	}
	return store.BlocksOf(store.HashKind(h.Kind), store.HashKind(inner), int64(h.Block))
}

// verificationKind is the hash that answers to writes tell; empty for none.
func (d *Definition) verificationKind() store.HashKind {
	for _, hash := range d.Hashes {
		if hash.Verification {
			return hash.kind()
		}
	}
	return ""
}

func (d *Definition) precision() time.Duration {
	if d.Times.Precision > 0 {
		return time.Duration(d.Times.Precision)
	}
	if !d.Entry.Modified.Given() {
		return 0
	}
	return time.Second
}

func (d *Definition) page() int {
	if d.Limits.Page > 0 {
		return d.Limits.Page
	}
	return 1000
}

// mapping reads entries; it holds the first error, so that a page of them is
// read without a check after each member.
type mapping struct {
	ctx   context.Context
	input jq.Input
	err   error
}

func (m *mapping) value(e Expr) any {
	if m.err != nil || !e.Given() {
		return nil
	}
	value, err := e.Run(m.ctx, m.input)
	if err != nil {
		m.err = wrong(err)
	}
	return value
}

func (m *mapping) text(e Expr) string { return textOf(m.value(e)) }

// entry reads one entry of what the service tells.
func (a *account) entry(ctx context.Context, value any, input jq.Input) (found, error) {
	d := &a.definition.Entry
	input.Value = value
	m := &mapping{ctx: ctx, input: input}
	var f found
	f.Name, f.ID, f.path = m.text(d.Name), m.text(d.ID), m.text(d.Path)
	if !d.Name.Given() {
		f.Name = f.path[strings.LastIndexByte(f.path, '/')+1:]
	}
	f.Size = -1
	switch kind := m.value(d.Kind).(type) {
	case bool:
		f.Kind = store.KindFile
		if kind {
			f.Kind = store.KindFolder
		}
	case string:
		f.Kind = store.Kind(kind)
	}
	switch f.Kind {
	case store.KindFolder:
		f.Size = 0
	case store.KindFile:
		if n, ok := intOf(m.value(d.Size)); ok && n >= 0 {
			f.Size = n
		}
	case store.KindDocument:
		f.Document = m.text(d.Document)
	case store.KindOther:
	default:
		if m.err == nil {
			m.err = wrong(store.Errorf(store.ErrRefused, "entry.kind comes to %q, which is not folder, file, document or other", f.Kind))
		}
	}
	if modified := m.value(d.Modified); modified != nil && m.err == nil {
		if f.Modified, m.err = timeOf(modified); m.err != nil {
			m.err = wrong(m.err)
		}
	}
	if f.Kind != store.KindFolder {
		f.Revision = m.text(d.Revision)
	}
	for i := range a.definition.Hashes {
		hash := &a.definition.Hashes[i]
		if f.Kind != store.KindFile {
			break
		}
		if text := m.text(hash.Value); text != "" {
			if value, ok := hashOf(hash.kind(), text); ok {
				f.Hashes = append(f.Hashes, value)
			}
		}
	}
	f.created, f.parent = m.text(d.Created), m.text(d.Parent)
	f.excluded, f.home = truth(m.value(d.Excluded)), m.text(d.Home)
	f.HasShares = truth(m.value(d.Shared))
	f.facts, _ = m.value(d.Facts).(map[string]any)
	return f, m.err
}

// hashOf reads a hash in hexadecimal or in base64.
func hashOf(kind store.HashKind, text string) (store.Hash, bool) {
	size := kind.New().Size()
	if raw, err := hex.DecodeString(text); err == nil && len(raw) == size {
		return store.HashOf(kind, raw), true
	}
	text = strings.TrimRight(strings.NewReplacer("-", "+", "_", "/").Replace(text), "=")
	if raw, err := base64.RawStdEncoding.DecodeString(text); err == nil && len(raw) == size {
		return store.HashOf(kind, raw), true
	}
	return store.Hash{}, false
}

// entryOf reads the entry that an operation answered with.
func (a *account) entryOf(ctx context.Context, operation string, got *answer, in scope) (found, error) {
	if got.notJSON != nil {
		address := got.url
		if address == nil {
			address = &url.URL{}
		}
		return found{}, got.json(&outgoing{operation: operation, url: address})
	}
	if got.body == nil {
		return found{}, wrong(store.Errorf(store.ErrRefused, "the answer to %s holds no entry", operation))
	}
	return a.entry(ctx, got.body, got.input(in))
}
