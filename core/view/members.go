package view

import (
	"context"
	"io"
	"iter"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"deftheron/core/store"
)

// Member is a person whose area is a folder of an organisation's account.
type Member struct {
	ID   string
	Name string // of the folder
	Mail string // their email address; empty if the provider does not report it
}

// Organisation are the areas of all members.
type Organisation struct {
	// List returns the members of now. An error is never taken for their absence.
	List func(ctx context.Context) ([]Member, error)
	// Open opens the area of a member.
	Open func(ctx context.Context, member Member) (store.Store, error)
	// Traits are the traits of every area, and Able its capabilities.
	Traits store.Traits
	Able   store.Capabilities
	// Now is the clock; nil is the system's.
	Now func() time.Time
}

// freshMembers is how old the list of members may be when a member is looked up.
const freshMembers = 30 * time.Second

// Members returns a store that has a folder for each member of an organisation. Who joins is
// there from the next listing on, and who leaves is not. The folders themselves are neither
// made nor removed.
func Members(organisation Organisation) store.Store {
	m := &members{org: organisation, open: map[string]store.Store{}}
	if m.org.Now == nil {
		m.org.Now = time.Now
	}
	return m
}

type members struct {
	org     Organisation
	opening singleflight.Group

	mu     sync.Mutex
	known  map[string]Member // by the name of the folder
	listed time.Time
	open   map[string]store.Store // by id
}

// Traits implements store.Store.
func (m *members) Traits() store.Traits {
	traits := m.org.Traits
	traits.Order = store.OrderNone
	return traits
}

// all returns the members, no older than an age.
func (m *members) all(ctx context.Context, age time.Duration) (map[string]Member, error) {
	m.mu.Lock()
	known, listed := m.known, m.listed
	m.mu.Unlock()
	if known != nil && m.org.Now().Sub(listed) < age {
		return known, nil
	}
	list, err := m.org.List(ctx)
	if err != nil {
		return nil, err
	}
	known = map[string]Member{}
	for _, one := range list {
		if _, twice := known[one.Name]; twice {
			one.Name += " (" + one.ID + ")"
		}
		known[one.Name] = one
	}
	m.mu.Lock()
	m.known, m.listed = known, m.org.Now()
	m.mu.Unlock()
	return known, nil
}

// of returns the area of the member whose folder a path starts with, and the rest of the path.
func (m *members) of(ctx context.Context, path store.Path) (store.Store, store.Path, error) {
	first, rest, _ := strings.Cut(string(path), "/")
	name := strings.ReplaceAll(first, "\x00", "/")
	known, err := m.all(ctx, freshMembers)
	if err != nil {
		return nil, "", err
	}
	member, ok := known[name]
	if !ok {
		return nil, "", store.Errorf(store.ErrNotFound, "%q is not a member of the organisation any more, or never was", name)
	}
	m.mu.Lock()
	opened := m.open[member.ID]
	m.mu.Unlock()
	if opened != nil {
		return opened, store.Path(rest), nil
	}
	made, err, _ := m.opening.Do(member.ID, func() (any, error) { return m.org.Open(ctx, member) })
	if err != nil {
		return nil, "", err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.open[member.ID], _ = made.(store.Store)
	return m.open[member.ID], store.Path(rest), nil
}

// folder returns where a folder is; a nil store says that it is the start.
func (m *members) folder(ctx context.Context, folder store.Folder) (store.Store, store.Folder, error) {
	if folder.Path == "" {
		return nil, folder, nil
	}
	area, rest, err := m.of(ctx, folder.Path)
	if rest == "" {
		return area, store.Folder{}, err
	}
	return area, store.Folder{Path: rest, ID: folder.ID}, err
}

// ref returns where an entry of a member's area is. ErrRefused for the folder of a member.
func (m *members) ref(ctx context.Context, ref store.Ref) (store.Store, store.Ref, error) {
	if ref.IsStart() || ref.Folder.Path == "" {
		return nil, ref, store.Errorf(store.ErrRefused,
			"%s: the folders of the members are made by the organisation; choose a place in one of them",
			ref)
	}
	area, inner, err := m.folder(ctx, ref.Folder)
	if err != nil {
		return nil, ref, err
	}
	ref.Folder = inner
	return area, ref, nil
}

// Stat implements store.Store.
func (m *members) Stat(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if ref.IsStart() {
		return store.Entry{Kind: store.KindFolder}, nil
	}
	if ref.Folder.Path != "" {
		area, inner, err := m.ref(ctx, ref)
		if err != nil {
			return store.Entry{}, err
		}
		return area.Stat(ctx, inner)
	}
	known, err := m.all(ctx, freshMembers)
	if err != nil {
		return store.Entry{}, err
	}
	member, ok := known[ref.Name]
	if !ok || !ref.Means(store.KindFolder) {
		return store.Entry{}, store.Errorf(store.ErrNotFound, "%s is not there", ref)
	}
	return m.entry(member), nil
}

// entry is the folder of a member, who owns it.
func (m *members) entry(one Member) store.Entry {
	return store.Entry{Name: one.Name, Kind: store.KindFolder, ID: one.ID, HasShares: m.org.Able.Sharing != nil && one.Mail != ""}
}

// List implements store.Store.
func (m *members) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		area, inner, err := m.folder(ctx, folder)
		if err != nil {
			yield(store.Entry{}, err)
			return
		}
		if area != nil {
			for one, err := range area.List(ctx, inner) {
				if !yield(one, err) {
					return
				}
			}
			return
		}
		known, err := m.all(ctx, 0)
		if err != nil {
			yield(store.Entry{}, err)
			return
		}
		for _, one := range known {
			if !yield(m.entry(one), nil) {
				return
			}
		}
	}
}

// Open implements store.Store.
func (m *members) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	area, inner, err := m.ref(ctx, reading.Place)
	if err != nil {
		return nil, err
	}
	reading.Place = inner
	return area.Open(ctx, reading)
}

// Write implements store.Store.
func (m *members) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	area, inner, err := m.ref(ctx, writing.Place)
	if err != nil {
		return store.Written{}, err
	}
	writing.Place = inner
	return area.Write(ctx, writing)
}

// MakeFolder implements store.Store.
func (m *members) MakeFolder(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if ref.Folder.Path == "" {
		if one, err := m.Stat(ctx, ref.As(store.KindFolder)); err == nil { // it is there already
			return one, nil
		}
	}
	area, inner, err := m.ref(ctx, ref)
	if err != nil {
		return store.Entry{}, err
	}
	return area.MakeFolder(ctx, inner)
}

// Remove implements store.Store.
func (m *members) Remove(ctx context.Context, ref store.Ref, revision string) (store.Removal, error) {
	area, inner, err := m.ref(ctx, ref)
	if err != nil {
		return "", err
	}
	return area.Remove(ctx, inner, revision)
}

// RemoveFolder implements store.Store.
func (m *members) RemoveFolder(ctx context.Context, ref store.Ref) (store.Removal, error) {
	area, inner, err := m.ref(ctx, ref)
	if err != nil {
		return "", err
	}
	return area.RemoveFolder(ctx, inner)
}

// Capabilities implements store.Store: what can be done within the area of one member.
func (m *members) Capabilities() store.Capabilities {
	able := m.org.Able
	c := store.Capabilities{Owner: able.Owner, Close: m.close}
	if able.Move != nil {
		c.Move = func(ctx context.Context, from store.Ref, revision string, to store.Ref) (store.Entry, error) {
			area, from, to, err := m.within(ctx, from, to)
			if err != nil {
				return store.Entry{}, err
			}
			return store.Move(ctx, area, from, revision, to)
		}
	}
	if able.Copy != nil {
		c.Copy = func(ctx context.Context, from store.Ref, revision string, to store.Ref, run string) (store.Entry, error) {
			area, from, to, err := m.within(ctx, from, to)
			if err != nil {
				return store.Entry{}, err
			}
			return store.Copy(ctx, area, from, revision, to, run)
		}
	}
	if able.Checksums != nil {
		c.Checksums = memberSums{m}
	}
	if able.Exports != nil {
		c.Exports = memberExports{m}
	}
	if able.Sharing != nil {
		c.Sharing = memberSharing{m}
	}
	if able.Clean != nil {
		c.Clean = m.clean
	}
	if able.Lock != nil {
		c.Lock = func(ctx context.Context, ref store.Ref, until time.Time) (bool, error) {
			area, inner, err := m.ref(ctx, ref)
			if err != nil {
				return false, err
			}
			return store.Lock(ctx, area, inner, until)
		}
	}
	if able.Locate != nil {
		c.Locate = func(folder store.Folder) string {
			return able.Locate(store.Folder{}) + "members/" + strings.ReplaceAll(string(folder.Path), "\x00", "%2F")
		}
	}
	return c
}

// within are two places in the area of one member. ErrUnsupported where they are of two.
func (m *members) within(ctx context.Context, from, to store.Ref) (area store.Store, _, _ store.Ref, err error) {
	first, _, _ := strings.Cut(string(from.Folder.Path), "/")
	second, _, _ := strings.Cut(string(to.Folder.Path), "/")
	if first != second {
		return nil, from, to, store.Errorf(store.ErrUnsupported, "%s and %s are of two members", from, to)
	}
	if area, from, err = m.ref(ctx, from); err != nil {
		return nil, from, to, err
	}
	_, to, err = m.ref(ctx, to)
	return area, from, to, err
}

// clean cleans up in the areas that a run was writing to.
func (m *members) clean(ctx context.Context, cleaning store.Cleaning) (cleaned []store.Leftover, err error) {
	known, err := m.all(ctx, freshMembers)
	if err != nil {
		return nil, err
	}
	for _, member := range known {
		root := store.MakePath(member.Name)
		if cleaning.Folder.Path != "" && !strings.HasPrefix(string(cleaning.Folder.Path), string(root)) {
			continue
		}
		one := cleaning
		one.Folder, one.Uploads = store.Folder{}, nil
		if rest, below := strings.CutPrefix(string(cleaning.Folder.Path), string(root)); below && rest != "" {
			one.Folder = store.Folder{Path: store.Path(rest)}
		}
		for _, place := range cleaning.Uploads {
			if rest, below := strings.CutPrefix(string(place.Folder.Path), string(root)); below {
				place.Folder = store.Folder{Path: store.Path(rest)}
				one.Uploads = append(one.Uploads, place)
			}
		}
		area, _, err := m.of(ctx, root)
		if err != nil {
			return cleaned, err
		}
		left, err := store.Clean(ctx, area, one)
		for _, leftover := range left {
			leftover.Place.Folder.Path = root + leftover.Place.Folder.Path
			cleaned = append(cleaned, leftover)
		}
		if err != nil {
			return cleaned, err
		}
	}
	return cleaned, nil
}

func (m *members) close() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	var last error
	for _, area := range m.open {
		if err := store.Close(area); err != nil {
			last = err
		}
	}
	if m.org.Able.Close != nil {
		if err := m.org.Able.Close(); err != nil {
			last = err
		}
	}
	return last
}
