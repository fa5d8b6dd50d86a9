package ftp

import (
	"context"
	"path"
	"slices"
	"strings"
	"time"

	"deftheron/core/publish"
	"deftheron/core/store"
	"deftheron/provider/fileserver"
)

// findings are what the server was found to do.
type findings struct {
	machine   bool // it lists for machines, by MLSD
	probed    bool
	setsTimes bool // by MFMT, or by MDTM with a time
	replaces  bool // a file that is given the name of another replaces it
	// What it does not keep in a name, or does not show again.
	noSlashes, noBlanks, noDots bool
}

// Prepare implements store.Preparer in a small folder of ours at the start, which
// is removed again: of two files, one is given an old time and the name of the
// other, and then names that some servers refuse, change or hide.
func (s *server) Prepare(ctx context.Context) error {
	s.probing.Lock()
	defer s.probing.Unlock()
	if s.found().probed {
		return nil
	}
	own := s.base + "/" + store.OwnFolder
	p := &probe{server: s, ctx: ctx, folder: own + "/" + publish.NewProbe()}
	err := s.MakeFolder(ctx, p.folder)
	for try := 0; err != nil && try < 3; try++ {
		_ = s.MakeFolder(ctx, own) // another process may make it as well, or remove it when it ends
		err = s.MakeFolder(ctx, p.folder)
	}
	if err != nil {
		return store.Errorf(fileserver.KindOr(err), "a first folder could not be made: %w", err)
	}
	defer p.clear(own)
	found, err := p.findings()
	if err != nil {
		return err
	}
	s.learn(func(f *findings) {
		found.machine, found.probed = f.machine, true
		*f = found
	})
	return nil
}

// probe is the look at a server.
type probe struct {
	server *server
	ctx    context.Context
	folder string
	file   string // the name of the file that it is done with
	made   []string
}

func (p *probe) path(name string) string {
	p.made = append(p.made, name)
	return p.folder + "/" + name
}

// clear removes the files of the probe, whatever their names became, and the leftovers of
// other probes; then our own folder, which stays while anything is in it.
func (p *probe) clear(own string) {
	ctx := context.WithoutCancel(p.ctx)
	entries, _ := p.server.List(ctx, own)
	for _, stale := range publish.StaleProbes(entries, path.Base(p.folder)) {
		p.remove(ctx, own+"/"+stale.Name)
	}
	p.remove(ctx, p.folder)
	_ = p.server.RemoveFolder(ctx, own)
}

// remove removes the folder of a probe.
func (p *probe) remove(ctx context.Context, folder string) {
	names := slices.Clone(p.made)
	entries, _ := p.server.List(ctx, folder)
	for _, entry := range entries {
		names = append(names, entry.Name)
	}
	for _, name := range names {
		_ = p.server.pool.do(ctx, func(c *control) error { return c.ftp.Delete(folder + "/" + name) })
	}
	publish.Discard(ctx, func(ctx context.Context) error { return p.server.RemoveFolder(ctx, folder) })
}

func (p *probe) findings() (found findings, err error) {
	for _, name := range []string{"one", "two"} {
		if err := p.server.Create(p.ctx, p.path(name), strings.NewReader("of Deft Heron\n"), -1, time.Time{}); err != nil {
			return found, store.Errorf(fileserver.KindOr(err), "a first small file could not be written: %w", err)
		}
	}
	if found.setsTimes, err = p.setsTimes(p.path("one")); err != nil {
		return found, err
	}
	if found.replaces, err = p.renames(p.path("one"), p.path("two")); err != nil {
		return found, err
	}
	p.file = "two"
	for _, c := range []struct {
		name    string
		refused *bool
	}{{`back\slash`, &found.noSlashes}, {"blank ", &found.noBlanks}, {".dot", &found.noDots}} {
		holds, err := p.holds(c.name)
		if err != nil {
			return found, err
		}
		*c.refused = !holds
	}
	return found, nil
}

// setsTimes reports whether the server can be told the time of a file.
func (p *probe) setsTimes(path string) (sets bool, err error) {
	old := time.Date(2001, 2, 3, 4, 5, 6, 0, time.UTC)
	err = p.server.pool.do(p.ctx, func(c *control) error {
		if !c.ftp.IsSetTimeSupported() {
			return nil
		}
		if err := c.ftp.SetTime(path, old); err != nil {
			if replyOf(err) != 0 {
				return nil
			}
			return err
		}
		told, err := timeOf(c, path)
		sets = err == nil && told.Equal(old)
		return err
	})
	return sets, err
}

// renames reports whether the server does a renaming, or refuses it.
func (p *probe) renames(from, to string) (bool, error) {
	err := p.server.pool.do(p.ctx, func(c *control) error { return c.ftp.Rename(from, to) })
	switch store.KindOf(err) {
	case store.ErrRefused, store.ErrNameRefused, store.ErrUnsupported:
		return false, nil
	}
	return err == nil, err
}

// holds reports whether the server lets the file have a name, and lists it by just
// that.
func (p *probe) holds(name string) (bool, error) {
	renamed, err := p.renames(p.path(p.file), p.path(name))
	if !renamed {
		return false, err
	}
	entries, err := p.server.List(p.ctx, p.folder)
	if err != nil {
		return false, err
	}
	p.file = name
	for _, entry := range entries {
		if entry.Name == name {
			return true, nil
		}
		if entry.Name != "one" { // what it made of the name
			p.file = entry.Name
		}
	}
	return false, nil
}
