package share

import (
	"context"
	"time"
)

// Run records what is counted, until the context ends.
func (l *Links) Run(ctx context.Context) {
	ticker := time.NewTicker(recordEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			if err := l.Flush(context.WithoutCancel(ctx)); err != nil {
				l.log.Error("the uses of share links could not be recorded", "error", err)
			}
			return
		case <-ticker.C:
			if err := l.Flush(ctx); err != nil && ctx.Err() == nil {
				l.log.Error("the uses of share links could not be recorded", "error", err)
			}
		}
	}
}

// Flush records what was counted, also what another call is recording: whoever reads the
// records after it finds all of it.
func (l *Links) Flush(ctx context.Context) error {
	l.flushing.Lock()
	defer l.flushing.Unlock()
	l.mu.Lock()
	uses := l.uses
	l.uses = nil
	links := make([]*Link, 0, len(l.cached))
	for _, link := range l.cached {
		links = append(links, link)
	}
	l.mu.Unlock()
	for _, link := range links {
		link.mu.Lock()
		changed, row := link.changed, link.row
		link.changed = false
		link.mu.Unlock()
		if !changed {
			continue
		}
		if err := l.db.SaveShareLink(ctx, row, "uses", "bytes", "used_at"); err != nil {
			return err
		}
	}
	return l.db.AddShareUses(ctx, uses)
}
