package sealed

import (
	"maps"
	"slices"
	"time"
)

// mostIndexed is how many entries are held in the indexes of folders that are not in use.
// Tests have fewer.
var mostIndexed = 500_000

// mostScratch is how large the scratch file may become.
const mostScratch = 1 << 30

// putAway forgets folders that were not used for the longest, where many are held. It looks
// only after a quarter of what may be held was loaded or written. No folder is locked.
func (p *Place) putAway() {
	if p.loaded.Load() < int64(mostIndexed/4) {
		return
	}
	p.loaded.Store(0)
	p.mu.Lock()
	all, files := slices.Collect(maps.Values(p.folders)), p.scratch
	p.mu.Unlock()
	held := 0
	used := map[*folder]time.Time{}
	for _, f := range all {
		f.mu.Lock()
		held += f.weight()
		used[f] = f.used
		f.mu.Unlock()
	}
	full := files != nil && files.size() > mostScratch
	if held <= mostIndexed && !full {
		return
	}
	slices.SortFunc(all, func(a, b *folder) int { return used[a].Compare(used[b]) })
	for _, f := range all {
		if held <= mostIndexed/2 && !full {
			break
		}
		f.mu.Lock()
		if len(f.pending) == 0 && len(f.writing) == 0 && !f.fresh {
			held -= f.weight()
			f.dead = true
			p.mu.Lock()
			delete(p.folders, f.id)
			p.mu.Unlock()
		}
		f.mu.Unlock()
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	clear(p.paths)
	if full {
		p.scratch = nil // those who read it still refer to it
	}
}

// weight is the memory that a folder takes, in entries.
func (f *folder) weight() int { return len(f.index) + 50 }
