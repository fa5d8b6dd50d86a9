package site

import (
	"context"

	"deftheron/core/store"
	"deftheron/core/unit"
)

// opCarry has a worker copy between two accounts that it reaches: the account of the request is the
// source.
const opCarry = "carry"

// Carriage is a unit that a worker is to copy.
type Carriage struct {
	unit.Unit
	Source, Target     store.Store
	SourceID, TargetID string // of the accounts
	// Done is called with what became of each copy, one call at a time.
	Done func(unit.Copied) error
}

// Remote is an account as workers open it. The service itself does not.
type Remote struct{ of *account }

// NewRemote returns an account of a provider, by its name, which is opened at a worker when it is first
// used there.
func NewRemote(caller Caller, provider string, opening Opening) Remote {
	return Remote{&account{caller: caller, provider: provider, opening: opening, gate: store.Opening{}.Gates()}}
}

// Close has a worker, by its id, close the account and forget its secret. That it is not open there is no error.
func (r Remote) Close(ctx context.Context, worker string) error {
	got, _, err := r.of.first(ctx, Call{Worker: worker, Request: r.of.request(ctx, opClose, &arguments{})})
	if err != nil {
		return lost(err, opClose)
	}
	return got.Close()
}

// Carry has a worker, by its id, copy a unit, and returns what became of the copies. After an error
// some may have been made.
func Carry(ctx context.Context, worker string, source, target Remote, u unit.Unit) ([]unit.Copied, error) {
	call := Call{Worker: worker, Request: source.of.request(ctx, opCarry, &arguments{Carry: carryOf(target.of.opening, u)})}
	for attempt := 0; ; attempt++ {
		copied, opened, err := source.of.carry(ctx, call)
		if opened || err != nil {
			return copied, err
		}
		if attempt == 2 {
			return nil, store.Errorf(store.ErrTryAgain, "the worker did not keep the accounts open")
		}
		for _, one := range []Remote{source, target} {
			if err := one.of.openAt(ctx, worker); err != nil {
				return nil, err
			}
		}
	}
}

// carry sends a unit; opened is false if one of the accounts has to be opened first.
func (a *account) carry(ctx context.Context, call Call) (all []unit.Copied, opened bool, err error) {
	got, _, err := a.first(ctx, call)
	if err != nil {
		return nil, false, lost(err, opCarry)
	}
	defer got.Close()
	for got.kind == frameItems {
		var batch []copied
		if err := decode(got.data, &batch); err != nil {
			return nil, true, err
		}
		for _, one := range batch {
			all = append(all, one.copied())
		}
		if got.kind, got.data, err = got.frames.next(); err != nil {
			return nil, true, lost(err, opCarry)
		}
	}
	if got.kind != frameEnd {
		return nil, true, store.Errorf(store.ErrTryAgain, "the worker sent a frame %q in place of the end", got.kind)
	}
	ended, err := readEnd(got.data)
	if err == nil && ended.Error != nil && ended.Error.Kind == notOpen {
		return nil, false, nil
	}
	if err == nil {
		err = ended.Error.error()
	}
	return all, true, err
}

// carry answers a request to copy a unit.
func (h *Host) carry(ctx context.Context, r request, asked *carry, answer Answer) error {
	refused := func(err error) error { return writeEnd(answer, end{Error: wireErrorOf(err)}) }
	if asked == nil || h.Carry == nil {
		return refused(store.Errorf(store.ErrUnsupported, "the worker copies no units; update the worker"))
	}
	source, target := h.get(openKey{r.Account, r.Generation}), h.get(openKey{asked.Account, asked.Generation})
	defer source.done()
	defer target.done()
	if source == nil || target == nil {
		return writeEnd(answer, end{Error: &wireError{Kind: notOpen}})
	}
	u, err := asked.unit()
	if err != nil {
		return refused(err)
	}
	// What the first write finds out is found out once, and not by each of many.
	target.prepared.Do(func() { err = store.Prepare(ctx, target.store) })
	if err != nil {
		return refused(err)
	}
	var failed error // of writing the answer
	err = h.Carry(ctx, Carriage{Unit: u, Source: source.store, Target: target.store, SourceID: r.Account, TargetID: asked.Account,
		Done: func(one unit.Copied) error {
			failed = writeFrame(answer, frameItems, encode([]copied{copiedOf(one)}))
			return failed
		}})
	if failed != nil {
		return failed
	}
	return refused(err) // or says that all went well
}

// carry is a unit.Unit, and the account that is its target.
type carry struct {
	Account, Generation string
	Run                 string
	Verification        store.VerifyLevel
	Digest              bool
	Copies              []copying
	Upload              string `cbor:",omitempty"`
	PartSize            int64  `cbor:",omitempty"`
	Parts               []int  `cbor:",omitempty"`
}

// copying is a unit.Copy.
type copying struct {
	Seq      int64
	From     ref
	Revision string
	To       writing
}

func carryOf(to Opening, u unit.Unit) *carry {
	of := &carry{Account: to.ID, Generation: to.Generation, Run: u.Run, Verification: u.Verification, Digest: u.Digest}
	for _, one := range u.Copies {
		of.Copies = append(of.Copies, copying{one.Seq, refOf(one.From), one.Revision,
			*writingOf(store.Writing{Place: one.To, Size: one.Size, Modified: one.Modified, If: one.If})})
	}
	if u.Parts != nil {
		of.Upload, of.PartSize, of.Parts = u.Parts.Upload, u.Parts.Size, u.Parts.Numbers
	}
	return of
}

func (c *carry) unit() (unit.Unit, error) {
	u := unit.Unit{Run: c.Run, Verification: c.Verification, Digest: c.Digest}
	for _, one := range c.Copies {
		to := one.To.writing(nil)
		u.Copies = append(u.Copies, unit.Copy{Seq: one.Seq, From: one.From.ref(), Revision: one.Revision, To: to.Place, Size: to.Size,
			Modified: to.Modified, If: to.If})
	}
	if len(c.Parts) > 0 {
		u.Parts = &unit.Parts{Upload: c.Upload, Size: c.PartSize, Numbers: c.Parts}
		if len(u.Copies) != 1 || c.PartSize <= 0 {
			return u, store.Errorf(store.ErrRefused, "parts of %d files cannot be one unit", len(u.Copies))
		}
	}
	return u, nil
}

// copied is a unit.Copied.
type copied struct {
	Seq          int64
	Entry        entry
	Size         int64
	Verification string       `cbor:",omitempty"`
	Digest       string       `cbor:",omitempty"`
	Parts        []store.Part `cbor:",omitempty"`
	Error        *wireError   `cbor:",omitempty"`
}

func copiedOf(c unit.Copied) copied {
	return copied{Seq: c.Seq, Entry: entryOf(c.Entry), Size: c.Size, Verification: c.Verification, Digest: c.Digest, Parts: c.Parts,
		Error: wireErrorOf(c.Err)}
}

func (c copied) copied() unit.Copied {
	return unit.Copied{Seq: c.Seq, Entry: c.Entry.entry(), Size: c.Size, Verification: c.Verification, Digest: c.Digest, Parts: c.Parts,
		Err: c.Error.error()}
}
