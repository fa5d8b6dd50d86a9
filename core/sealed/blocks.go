package sealed

import (
	"context"
	"slices"
	"strings"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// block is a folder of contents/ that a run writes to. Once all of its contents are in
// manifests, the file "complete" says so: whatever is in a block without it may have been
// left by a run that broke off.
type block struct {
	id    string
	run   string
	used  int // contents that were started
	going int // of those, on their way
	last  time.Time
}

// blockSize is how many contents a block has.
const blockSize = 500

// idleBlock is how long a block is left open for more.
const idleBlock = time.Minute

// completeFile and keptSuffix name the notes about contents: that a block is complete, and
// that a content was moved while its block was not.
const (
	completeFile = "complete"
	keptSuffix   = ".kept"
)

// copyMark is in the name of a content that was copied, before the id of its folder.
const copyMark = "-in-"

func splitContent(content string) (block, name string) {
	block, name, _ = strings.Cut(content, "/")
	return block, name
}

// blockRun is the run that a block is of; the suffix is of newID.
func blockRun(id string) string {
	run, _, _ := strings.Cut(id, "-")
	return run
}

// begin returns where a content of a run goes. The caller calls the function returned once
// the content is in a pending entry, or is given up.
func (p *Place) begin(run string) (content string, end func()) {
	if run == "" {
		run = ownRun
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	in := p.blocks[run]
	if in == nil || in.used >= blockSize {
		in = &block{id: run + "-" + newID(), run: run}
		p.blocks[run] = in
		p.open = append(p.open, in)
	}
	in.used++
	in.going++
	in.last = p.now()
	return in.id + "/" + newID(), func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		in.going--
	}
}

// finished returns the full blocks whose entries are all pending or written.
func (p *Place) finished() (full []*block) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, in := range p.open {
		if in.going == 0 && (in.used >= blockSize || p.now().Sub(in.last) > idleBlock || p.closing) {
			full = append(full, in)
		}
	}
	return full
}

// finish notes that blocks are complete.
func (p *Place) finish(ctx context.Context, full []*block) error {
	for _, in := range full {
		if err := p.noteComplete(ctx, in.id); err != nil {
			return err
		}
		p.mu.Lock()
		held := p.held[in.id]
		delete(p.held, in.id)
		p.mu.Unlock()
		p.dropHeld(ctx, in.id, held)
		p.mu.Lock()
		if p.blocks[in.run] == in {
			delete(p.blocks, in.run)
		}
		for i, one := range p.open {
			if one == in {
				p.open = append(p.open[:i], p.open[i+1:]...)
				break
			}
		}
		p.mu.Unlock()
	}
	return nil
}

func (p *Place) noteComplete(ctx context.Context, id string) error {
	again := patience
	again.May = retry.MayPass
	err := again.Do(ctx, func() error { return p.put(ctx, p.at(contentsPath, id, completeFile), store.Any, nil) })
	if err == nil {
		p.setWhole(id)
	}
	return err
}

func (p *Place) setWhole(id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.whole) > 10_000 {
		clear(p.whole)
	}
	p.whole[id] = true
}

// holdOn keeps a content from being cleaned up that is about to leave the folder that its
// header names, where its block is not complete.
func (p *Place) holdOn(ctx context.Context, content string) error {
	id, name := splitContent(content)
	p.mu.Lock()
	whole := p.whole[id]
	p.mu.Unlock()
	if whole || name == "" {
		return nil
	}
	_, err := retry.Read(ctx, func() (store.Entry, error) { return p.base.Stat(ctx, p.at(contentsPath, id, completeFile)) })
	if err == nil {
		p.setWhole(id)
		return nil
	}
	if store.KindOf(err) != store.ErrNotFound {
		return err
	}
	p.mu.Lock()
	if !slices.Contains(p.held[id], name) {
		p.held[id] = append(p.held[id], name)
	}
	p.mu.Unlock()
	return p.put(ctx, p.at(contentsPath, id, name+keptSuffix), store.Any, nil)
}

// dropHeld removes the notes about contents of a block that is complete.
func (p *Place) dropHeld(ctx context.Context, id string, names []string) {
	for _, name := range names {
		at := p.at(contentsPath, id, name+keptSuffix)
		if _, err := p.base.Remove(ctx, at, ""); err != nil && store.KindOf(err) != store.ErrNotFound {
			p.log.Warn("a note about a content is left in a sealed place", "note", at.String(), "error", err)
		}
	}
}
