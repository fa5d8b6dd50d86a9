package storetest

import (
	"bytes"
	"context"
	"io"
	"time"

	"deftheron/core/store"
)

// memoryVersions implements store.Versions.
type memoryVersions struct{ m *Memory }

func versionKey(place store.Ref, version string) string { return place.String() + "\x00" + version }

// keepVersion keeps what a file was, where the account is versioned.
func (m *Memory) keepVersion(place store.Ref, file *memoryFile) {
	if !m.Versioned {
		return
	}
	if m.past == nil {
		m.past = map[string]*memoryFile{}
	}
	m.past[versionKey(place, file.version)] = file
}

// find returns a version, which may be what the file is now.
func (v memoryVersions) find(place store.Ref, version string) (*memoryFile, error) {
	if file := v.m.files[place.Folder.Path][place.Name]; file != nil && file.version == version {
		return file, nil
	}
	if file := v.m.past[versionKey(place, version)]; file != nil {
		return file, nil
	}
	return nil, store.Errorf(store.ErrNotFound, "the version %s of %s is not there", version, place)
}

// VersionOf implements store.Versions.
func (v memoryVersions) VersionOf(_ context.Context, place store.Ref, revision string) (string, error) {
	v.m.mu.Lock()
	defer v.m.mu.Unlock()
	file := v.m.files[place.Folder.Path][place.Name]
	switch {
	case file == nil:
		return "", store.Errorf(store.ErrNotFound, "%s is not there", place)
	case revision != "" && file.revision != revision:
		return "", store.Errorf(store.ErrChanged, "%s changed", place)
	}
	return file.version, nil
}

// StatVersion implements store.Versions.
func (v memoryVersions) StatVersion(_ context.Context, place store.Ref, version string) (store.Entry, error) {
	v.m.mu.Lock()
	defer v.m.mu.Unlock()
	file, err := v.find(place, version)
	if err != nil {
		return store.Entry{}, err
	}
	return v.m.entry(place.Name, file), nil
}

// OpenVersion implements store.Versions.
func (v memoryVersions) OpenVersion(_ context.Context, reading store.Reading, version string) (io.ReadCloser, error) {
	v.m.mu.Lock()
	defer v.m.mu.Unlock()
	file, err := v.find(reading.Place, version)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(bytes.NewReader(part(file.data, reading))), nil
}

// CopyVersion implements store.Versions.
func (v memoryVersions) CopyVersion(_ context.Context, place store.Ref, version string, to store.Ref) (store.Entry, error) {
	v.m.mu.Lock()
	defer v.m.mu.Unlock()
	file, err := v.find(place, version)
	if err != nil {
		return store.Entry{}, err
	}
	if err := v.m.check(store.Writing{Place: to, If: store.Absent}); err != nil {
		return store.Entry{}, err
	}
	return v.m.put(to, file.data, time.Time{}), nil
}

// RemoveVersion implements store.Versions.
func (v memoryVersions) RemoveVersion(_ context.Context, place store.Ref, version string) error {
	v.m.mu.Lock()
	defer v.m.mu.Unlock()
	delete(v.m.past, versionKey(place, version))
	return nil
}

// LockVersion implements store.Versions.
func (v memoryVersions) LockVersion(context.Context, store.Ref, string, time.Time) (bool, error) {
	return false, nil
}
