// Package rehearsal restores files for practice: some of a folder, or all, are read, written to
// a scratch place, read back there and compared with the hashes that were recorded of them.
package rehearsal

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"slices"
	"time"

	"deftheron/core/listing"
	"deftheron/core/store"
)

// File is a file that is restored.
type File struct {
	Key      store.Key // from the folder that is rehearsed
	Size     int64
	Modified time.Time
	// Why it was chosen: newest, largest, random or all.
	Why string
	// Hash that was recorded of it, as KIND=HEXADECIMAL; empty where none was.
	Hash string
}

// Outcome is what became of a file. Err is nil where it is what was recorded; By is the hash
// that says so, and empty where the size alone does.
type Outcome struct {
	File
	By  string
	Err error
}

// Total is how much there is.
type Total struct{ Files, Bytes int64 }

// Scratch is where files are restored to.
type Scratch interface {
	// Keep writes a content, and returns it to be read back.
	Keep(ctx context.Context, content io.Reader) (io.ReadCloser, error)
	// Clear removes what was kept.
	Clear() error
}

// Options are what is rehearsed.
type Options struct {
	Store  store.Store
	Folder store.Folder
	// Files is how many are restored at random besides the newest and the largest; 0 restores
	// all.
	Files int
	// Seed of the choice: the same chooses the same of the same files.
	Seed    uint64
	Scratch Scratch
	// HashOf returns the hash that was recorded of a file, by its key from the folder; empty
	// where none was.
	HashOf func(ctx context.Context, key store.Key, entry store.Entry) (string, error)
	// Done is called with each outcome, in the order in which they come.
	Done func(Outcome) error
}

// Rehearse restores files. Those that cannot be restored are outcomes; the error is of the
// rehearsal itself, such as a listing that broke off or a scratch place that is full. total is
// what there is in the folder.
func Rehearse(ctx context.Context, o Options) (total Total, err error) {
	defer func() { err = errors.Join(err, o.Scratch.Clear()) }()
	if o.Files > 0 {
		chosen, total, err := o.choose(ctx)
		if err != nil {
			return total, err
		}
		for _, file := range chosen {
			if err := o.one(ctx, file); err != nil {
				return total, err
			}
		}
		return total, nil
	}
	for listed, err := range listing.Flat(ctx, o.Store, o.Folder) {
		if err != nil {
			return total, err
		}
		if listed.Kind != store.KindFile {
			continue
		}
		total.Files++
		total.Bytes += max(0, listed.Size)
		file, err := o.file(ctx, listed, "all")
		if err == nil {
			err = o.one(ctx, file)
		}
		if err != nil {
			return total, err
		}
	}
	return total, nil
}

func (o Options) file(ctx context.Context, listed store.Listed, why string) (File, error) {
	hash, err := o.HashOf(ctx, listed.Key(), listed.Entry)
	return File{Key: listed.Key(), Size: listed.Size, Modified: listed.Modified, Why: why, Hash: hash}, err
}

// choose lists the folder and chooses: each file is as likely as any other.
func (o Options) choose(ctx context.Context) (files []File, total Total, err error) {
	random := rand.New(rand.NewPCG(o.Seed, 1))
	var sample []store.Listed
	var newest, largest *store.Listed
	for listed, err := range listing.Flat(ctx, o.Store, o.Folder) {
		if err != nil {
			return nil, total, err
		}
		if listed.Kind != store.KindFile {
			continue
		}
		total.Files++
		total.Bytes += max(0, listed.Size)
		if newest == nil || listed.Modified.After(newest.Modified) {
			newest = &listed
		}
		if largest == nil || listed.Size > largest.Size {
			largest = &listed
		}
		if len(sample) < o.Files {
			sample = append(sample, listed)
		} else if at := random.Int64N(total.Files); at < int64(o.Files) {
			sample[at] = listed
		}
	}
	chosen := map[store.Key]bool{}
	add := func(listed store.Listed, why string) error {
		if chosen[listed.Key()] {
			return nil
		}
		chosen[listed.Key()] = true
		file, err := o.file(ctx, listed, why)
		files = append(files, file)
		return err
	}
	if newest != nil {
		err = errors.Join(add(*newest, "newest"), add(*largest, "largest"))
	}
	slices.SortFunc(sample, func(a, b store.Listed) int { return store.CompareKeys(a.Key(), a.Kind, b.Key(), b.Kind) })
	for _, listed := range sample {
		err = errors.Join(err, add(listed, "random"))
	}
	return files, total, err
}

// one restores a file, and tells what became of it.
func (o Options) one(ctx context.Context, file File) error {
	by, err := o.restore(ctx, file)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if scratch := (scratchError{}); errors.As(err, &scratch) {
		return err
	}
	return o.Done(Outcome{File: file, By: by, Err: err})
}

// scratchError is an error of the scratch place, and none of the file.
type scratchError struct{ error }

func (e scratchError) Unwrap() error { return e.error }

func (o Options) restore(ctx context.Context, file File) (by string, err error) {
	place := file.Key.Ref(o.Folder.Path, store.KindFile)
	body, err := o.Store.Open(ctx, store.Reading{Place: place})
	if err != nil {
		return "", err
	}
	defer body.Close()
	source := &reading{Reader: body}
	restored, err := o.Scratch.Keep(ctx, source)
	if source.err != nil {
		return "", source.err
	}
	if err != nil {
		return "", scratchError{err}
	}
	defer restored.Close()
	wanted, known := store.ParseHash(file.Hash)
	computed := wanted.Kind.New()
	into := io.Discard
	if known = known && computed != nil; known {
		into = computed
	}
	size, err := io.Copy(into, restored)
	switch {
	case err != nil:
		return "", scratchError{err}
	case file.Size >= 0 && size != file.Size:
		return "", store.Errorf(store.ErrVerification, "%d bytes were restored of %d", size, file.Size)
	case !known:
		return "", nil
	}
	if got := store.HashOf(wanted.Kind, computed.Sum(nil)); got != wanted {
		return "", store.Errorf(store.ErrVerification, "what was restored has %s, and %s was recorded", got, wanted)
	}
	return string(wanted.Kind), nil
}

// reading keeps the error of what is read, to tell it from one of where it is written.
type reading struct {
	io.Reader
	err error
}

func (r *reading) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	if err != nil && err != io.EOF {
		r.err = err
	}
	return n, err
}
