package transfer

import (
	"context"
	"io"
	"log/slog"
	"sync"
	"time"

	"deftheron/core/bandwidth"
	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/unit"
)

// Carrier copies what units name, for runs of another process: what a worker does. It looks at
// nothing, decides nothing and records nothing; whatever does not go well is the run's to deal with.
type Carrier struct {
	// Lanes bounds the number of parallel transfers, over all units.
	Lanes chan struct{}
	// Scratch is the folder for content of unknown size; empty is the system's.
	Scratch string
	Log     *slog.Logger
}

// Carriage is a unit to be copied.
type Carriage struct {
	unit.Unit
	Source, Target store.Store
	// Done is called with what became of each copy, one call at a time. Its error ends the rest.
	Done func(unit.Copied) error
	// Pay, if not nil, is called before bytes are taken from the source: it returns how many of n may
	// be, at least 1, once they may.
	Pay func(ctx context.Context, n int) (int, error)
}

// Carry copies a unit. It returns when all copies have ended and what was written would survive a power
// failure. The error comes from Done, or from a target that cannot confirm this: nothing counts as copied
// then.
func (c *Carrier) Carry(ctx context.Context, u Carriage) error {
	r := c.runOf(u)
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var mu sync.Mutex
	var group sync.WaitGroup
	for _, one := range split(u.Unit) {
		select {
		case c.Lanes <- struct{}{}:
		case <-ctx.Done():
			group.Wait()
			return context.Cause(ctx)
		}
		group.Go(func() {
			defer func() { <-c.Lanes }()
			copied := r.carryOne(ctx, &u, one)
			mu.Lock()
			defer mu.Unlock()
			if err := u.Done(copied); err != nil {
				stop(err)
			}
		})
	}
	group.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return store.Sync(ctx, u.Target)
}

// split returns what goes in lanes of its own: each copy, or each part.
func split(u unit.Unit) []unit.Unit {
	var all []unit.Unit
	if u.Parts != nil {
		for _, number := range u.Parts.Numbers {
			all = append(all, unit.Unit{Copies: u.Copies, Parts: &unit.Parts{Upload: u.Parts.Upload, Size: u.Parts.Size, Numbers: []int{number}}})
		}
		return all
	}
	for i := range u.Copies {
		all = append(all, unit.Unit{Copies: u.Copies[i : i+1]})
	}
	return all
}

// runOf is a run without records that has what copying needs.
func (c *Carrier) runOf(u Carriage) *Run {
	r := &Run{Options: Options{
		ID: u.Run, Lanes: 1, Scratch: c.Scratch, Log: c.Log, Bandwidth: &bandwidth.Limiter{},
		Routes: []Route{{Source: Side{Store: u.Source}, Target: Side{Store: u.Target}}},
		Rules:  plan.Rules{Verification: u.Verification, Digest: u.Digest},
		Retry:  retry.Policy{First: 500 * time.Millisecond, Longest: 5 * time.Second, Tries: 3, May: retry.MayPass},
	}}
	r.progress.init(1)
	return r
}

// carryOne copies a file, or a part of one.
func (r *Run) carryOne(ctx context.Context, carriage *Carriage, one unit.Unit) unit.Copied {
	file := one.Copies[0]
	copied := unit.Copied{Seq: file.Seq}
	a := &attempt{
		Run: r, route: r.Routes[0], from: &file.From, try: 1, carriage: carriage,
		item: &Item{Seq: file.Seq, Kind: store.KindFile, Size: file.Size, Source: compare.Remembered{Revision: file.Revision, Size: file.Size,
			Modified: file.Modified}},
	}
	a.flight = r.progress.takeOff(Side{}, a.item)
	defer r.progress.land(a.flight)
	copied.Err = r.Retry.Do(ctx, func() error {
		if one.Parts != nil {
			return a.carryPart(ctx, file, *one.Parts, &copied)
		}
		written, verification, err := a.moveContent(ctx, file.To, file.If)
		if err == nil {
			copied.Entry, copied.Verification, copied.Digest, copied.Size = written.Entry, verification, a.digest, max(0, written.Size)
		}
		return err
	})
	return copied
}

// carryPart writes one part of a file.
func (a *attempt) carryPart(ctx context.Context, file unit.Copy, parts unit.Parts, copied *unit.Copied) error {
	writer, _, ok := store.Parts(a.route.Target.Store, file.Size)
	if !ok {
		return store.Errorf(store.ErrUnsupported, "the account takes no file in parts here")
	}
	writing := store.Writing{Place: file.To, Size: file.Size, Modified: file.Modified, If: file.If, Run: a.ID,
		Verification: a.Rules.Verification}
	part, err := a.movePart(ctx, writer, writing, Upload{ID: parts.Upload, Revision: file.Revision, PartSize: parts.Size}, parts.Numbers[0])
	if err == nil {
		copied.Parts, copied.Size = []store.Part{part}, part.Size
	}
	return err
}

// paying returns a body whose bytes are charged to a bandwidth limit, if there is one.
func (a *attempt) paying(ctx context.Context, body io.ReadCloser) io.ReadCloser {
	if a.carriage == nil || a.carriage.Pay == nil {
		return body
	}
	return &paid{body, ctx, a.carriage.Pay}
}

// paid reads a source whose bytes are charged to a bandwidth limit.
type paid struct {
	io.ReadCloser
	ctx context.Context
	pay func(ctx context.Context, n int) (int, error)
}

// Read implements io.Reader.
func (p *paid) Read(buffer []byte) (int, error) {
	if len(buffer) == 0 {
		return 0, nil
	}
	n, err := p.pay(p.ctx, len(buffer))
	if err != nil {
		return 0, err
	}
	return p.ReadCloser.Read(buffer[:n])
}

// ContentHashes implements store.ContentHasher.
func (p *paid) ContentHashes() store.Hashes {
	if told, ok := p.ReadCloser.(store.ContentHasher); ok {
		return told.ContentHashes()
	}
	return nil
}
