package storetest

import (
	"context"
	"fmt"
	"io"
	"slices"

	"deftheron/core/store"
)

type memoryUpload struct {
	run   string
	place store.Ref
	parts map[int][]byte
}

// PartLimits implements store.PartWriter.
func (m *Memory) PartLimits() (store.PartLimits, bool) {
	return store.PartLimits{
		Above: m.PartsAbove, Size: func(int64) int64 { return m.PartSize }, Parallel: 2, Uneven: true,
	}, m.PartsAbove > 0
}

// BeginParts implements store.PartWriter.
func (m *Memory) BeginParts(ctx context.Context, writing store.Writing) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.changes++
	id := fmt.Sprint("upload", m.changes)
	m.uploads[id] = &memoryUpload{run: writing.Run, place: writing.Place, parts: map[int][]byte{}}
	return id, nil
}

// WritePart implements store.PartWriter.
func (m *Memory) WritePart(ctx context.Context, writing store.Writing, upload string, number int, size int64,
	stream *store.Stream) (store.Part, error) {
	data, err := io.ReadAll(stream)
	if err != nil {
		return store.Part{}, err
	}
	if int64(len(data)) != size {
		return store.Part{}, store.ShortBody(int64(len(data)), size)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	open := m.uploads[upload]
	if open == nil {
		return store.Part{}, store.Errorf(store.ErrNotFound, "the upload is gone")
	}
	open.parts[number] = data
	sum := store.CRC64NVME.New()
	sum.Write(data)
	return store.Part{Number: number, Size: size, Tag: fmt.Sprint("t", number), Hash: store.HashOf(store.CRC64NVME, sum.Sum(nil)).Hex}, nil
}

// CommitParts implements store.PartWriter.
func (m *Memory) CommitParts(ctx context.Context, writing store.Writing, upload string, parts []store.Part) (store.Written, error) {
	m.mu.Lock()
	open := m.uploads[upload]
	m.mu.Unlock()
	if open == nil {
		return store.Written{}, store.Errorf(store.ErrNotFound, "the upload is gone")
	}
	var data []byte
	for _, part := range parts {
		data = append(data, open.parts[part.Number]...)
	}
	if int64(len(data)) != writing.Size {
		return store.Written{}, store.ShortBody(int64(len(data)), writing.Size)
	}
	written, err := m.commit(ctx, writing, data)
	if err == nil {
		_ = m.AbortParts(ctx, writing.Place, upload)
	}
	return written, err
}

// AbortParts implements store.PartWriter.
func (m *Memory) AbortParts(ctx context.Context, place store.Ref, upload string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.uploads, upload)
	return nil
}

// Clean is store.Capabilities.Clean.
func (m *Memory) Clean(ctx context.Context, cleaning store.Cleaning) ([]store.Leftover, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var cleaned []store.Leftover
	for id, upload := range m.uploads {
		named := slices.ContainsFunc(cleaning.Uploads, func(place store.Ref) bool {
			return place.Folder.Path == upload.place.Folder.Path && place.Name == upload.place.Name
		})
		if named && !cleaning.Keep[id] { // as in an object store, which knows no runs
			cleaned = append(cleaned, store.Leftover{Run: upload.run, Place: upload.place, Upload: id})
			delete(m.uploads, id)
		}
	}
	return cleaned, nil
}
