package declared

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"time"

	"deftheron/core/listing"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// Outcome is the result of a part of a trial.
type Outcome string

// The outcomes of a part.
const (
	Works    Outcome = "works"
	Fails    Outcome = "fails"
	NotThere Outcome = "not described"
)

// Result is one part of a trial.
type Result struct {
	Part    string
	Outcome Outcome
	// Notes say what was found, what is wrong, or why the part was skipped.
	Notes []string
	// SameAs is an earlier part that failed for the same cause; it has the exchange.
	SameAs string
	// Exchange is the one that failed, of a part that fails.
	Exchange *Exchange
	Took     time.Duration
}

// Sum is the result of a trial.
type Sum struct {
	Works, Fails, NotThere int
	// Causes is how many different ones the failed parts have.
	Causes int
	// Left is the scratch folder, where it could not be removed again.
	Left string
}

// trialTime bounds one part.
const trialTime = 3 * time.Minute

// Try tests a definition with a live account: by the conformance suite, and by tests of
// the claims that only definitions have, in a scratch folder at the account's start,
// which is removed again. Nothing else in the account changes. report is called with the
// result of each part. The error says why nothing could be tested.
func (p *Provider) Try(ctx context.Context, opening store.Opening, report func(Result)) (Sum, error) {
	t := &trial{provider: p, opening: opening, report: report, causes: map[string]string{},
		scratch: "heron-try-" + strings.ToLower(rand.Text()[:8])}
	err := t.run(ctx)
	return t.sum, err
}

type trial struct {
	provider *Provider
	opening  store.Opening
	report   func(Result)
	scratch  string
	root     *account
	sum      Sum
	causes   map[string]string // the first part that failed of each

	mu   sync.Mutex
	last []Exchange // of the part that runs
	made int
}

func (t *trial) record(e Exchange) {
	t.mu.Lock()
	defer t.mu.Unlock()
	const most = 40
	if len(t.last) >= most {
		t.last = t.last[1:]
	}
	t.last = append(t.last, e)
}

// open opens the account at a folder of the scratch folder.
func (t *trial) open(ctx context.Context, definition *Definition, start store.Path) (*account, error) {
	opening := t.opening
	opening.Start = start
	provider := New(definition)
	provider.Record, provider.patient = t.record, true
	opened, err := provider.Open(ctx, opening)
	if err != nil {
		return nil, err
	}
	return opened.(*account), nil
}

func (t *trial) run(ctx context.Context) error {
	d := t.provider.Definition()
	if t.part(ctx, "signing in, and reaching the account", func(h *handle) {
		root, err := t.open(h.Context(), d, t.opening.Start)
		if err != nil {
			h.Fatal(err)
		}
		t.root = root
		h.note("%d ways to sign in are described", len(d.SignIn))
	}) != Works {
		return nil
	}
	t.part(ctx, "the sign-in is renewed", t.renewing)
	t.part(ctx, "the owner is reported", func(h *handle) {
		if d.Account == nil {
			h.Skip("account is not described")
		}
		if t.root.owner == "" {
			h.Fatal("account.owner comes to nothing")
		}
		h.note("%s", t.root.owner)
	})
	t.part(ctx, "the space is reported", t.space)
	t.part(ctx, "areas are reported", t.areas)
	t.part(ctx, "documents are exported", t.documents)
	if len(d.Uploads) == 0 || d.Folder == nil || d.Remove == nil {
		t.part(ctx, "reading", func(h *handle) { readingPart(h, t.root) })
		t.part(ctx, "writing", func(h *handle) {
			h.Skip("uploads, make-folder and remove are needed for all that is tried in a scratch folder")
		})
		return nil
	}
	if t.part(ctx, "a scratch folder is made", func(h *handle) {
		if _, err := t.root.MakeFolder(h.Context(), store.At(t.scratch)); err != nil {
			h.Fatal(err)
		}
		h.note("%s", store.At(t.scratch))
	}) != Works {
		return nil
	}
	defer t.cleanUp(ctx)
	for _, part := range storetest.Parts() {
		// Hashes are told with entries, and compared with contents below; what is replaced is
		// never kept by the write.
		if part.Name == "sums agree" || part.Name == "keeping what is replaced" {
			continue
		}
		if t.inScratch(ctx, part.Name, d, part.Run) == Fails && part.Name == "names survive" {
			t.inScratch(ctx, "which names the service takes", d, namesPart)
		}
	}
	t.inScratch(ctx, "what is said of entries", d, claimsPart)
	t.inScratch(ctx, "removing keeps to the revision", d, removingClaim)
	small := *d
	small.Limits.Page = 3
	t.inScratch(ctx, "listings go over pages", &small, func(h storetest.T, s store.Store) { pagesPart(h, s) })
	for i := range d.Uploads {
		t.inScratch(ctx, fmt.Sprintf("uploads, way %d of %d", i+1, len(d.Uploads)), d, func(h storetest.T, s store.Store) { uploadPart(h, s, i) })
	}
	t.inScratch(ctx, "an upload that broke off goes on", d, func(h storetest.T, s store.Store) { goOnPart(h, s) })
	t.inScratch(ctx, "several are removed at once", d, func(h storetest.T, s store.Store) { batchPart(h, s) })
	return ctx.Err()
}

// handle is storetest.T for one part.
type handle struct {
	ctx     context.Context
	trial   *trial
	failed  bool
	skipped bool
	notes   []string
	bad     *Exchange
}

func (h *handle) Helper()                  {}
func (h *handle) Context() context.Context { return h.ctx }
func (h *handle) Error(args ...any)        { h.fail(strings.TrimSpace(fmt.Sprintln(args...))) }
func (h *handle) Errorf(format string, args ...any) {
	h.fail(fmt.Sprintf(format, args...))
}
func (h *handle) Fatal(args ...any) { h.Error(args...); runtime.Goexit() }
func (h *handle) Fatalf(format string, args ...any) {
	h.Errorf(format, args...)
	runtime.Goexit()
}
func (h *handle) Skip(args ...any) {
	h.note("%s", strings.TrimSpace(fmt.Sprintln(args...)))
	h.skipped = true
	runtime.Goexit()
}
func (h *handle) Skipf(format string, args ...any) { h.Skip(fmt.Sprintf(format, args...)) }

func (h *handle) note(format string, args ...any) {
	h.trial.mu.Lock()
	defer h.trial.mu.Unlock()
	h.notes = append(h.notes, fmt.Sprintf(format, args...))
}

// fail keeps the exchange that the failure came of: the last that was answered
// with a failure, else the last of all.
func (h *handle) fail(text string) {
	t := h.trial
	t.mu.Lock()
	defer t.mu.Unlock()
	h.failed = true
	const most = 8
	if len(h.notes) < most {
		if t.root != nil {
			text = t.root.blank(text)
		}
		h.notes = append(h.notes, text)
	}
	if h.bad != nil || len(t.last) == 0 {
		return
	}
	bad := t.last[len(t.last)-1]
	for i := len(t.last) - 1; i >= 0; i-- {
		if t.last[i].Status >= 400 || t.last[i].Error != "" {
			bad = t.last[i]
			break
		}
	}
	h.bad = &bad
}

var quoted = regexp.MustCompile(`"[^"]*"`)

// causeOf is what failures of one cause have in common: what the service answered, by
// the first note that tells it, without the names in it; else the first note.
func causeOf(notes []string) string {
	for _, note := range notes {
		if _, answered, ok := strings.Cut(note, " answered "); ok {
			return quoted.ReplaceAllString(answered, `""`)
		}
	}
	return strings.Join(notes[:min(1, len(notes))], "")
}

// part runs one part and reports it.
func (t *trial) part(ctx context.Context, name string, run func(*handle)) Outcome {
	if ctx.Err() != nil {
		return Fails
	}
	t.mu.Lock()
	t.last = nil
	t.mu.Unlock()
	bounded, cancel := context.WithTimeout(ctx, trialTime)
	defer cancel()
	h := &handle{ctx: bounded, trial: t}
	begun := time.Now()
	done := make(chan struct{})
	go func() { // of its own, which Fatal and Skip end
		defer close(done)
		run(h)
	}()
	<-done
	result := Result{Part: name, Outcome: Works, Took: time.Since(begun)}
	t.mu.Lock()
	result.Notes = h.notes
	switch {
	case h.failed:
		result.Outcome, result.Exchange = Fails, h.bad
		t.sum.Fails++
		cause := causeOf(h.notes)
		if result.SameAs = t.causes[cause]; result.SameAs != "" {
			result.Exchange = nil
		} else {
			t.causes[cause] = name
			t.sum.Causes++
		}
	case h.skipped:
		result.Outcome = NotThere
		t.sum.NotThere++
	default:
		t.sum.Works++
	}
	t.mu.Unlock()
	if ctx.Err() == nil {
		t.report(result)
	}
	return result.Outcome
}

// inScratch runs a part on an account that starts in a folder of its own.
func (t *trial) inScratch(ctx context.Context, name string, definition *Definition, run func(storetest.T, store.Store)) Outcome {
	return t.part(ctx, name, func(h *handle) {
		t.made++
		folder := fmt.Sprint(t.made)
		if _, err := t.root.MakeFolder(h.Context(), store.At(t.scratch, folder)); err != nil {
			h.Fatal(err)
		}
		opened, err := t.open(h.Context(), definition, t.opening.Start.Child(t.scratch).Child(folder))
		if err != nil {
			h.Fatal(err)
		}
		run(h, opened)
	})
}

// cleanUp removes the scratch folder, also where the trial was given up.
func (t *trial) cleanUp(ctx context.Context) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), trialTime)
	defer cancel()
	place := store.At(t.scratch)
	if err := removeAll(ctx, t.root, place, 0); err != nil {
		t.sum.Left = t.scratch
		t.report(Result{Part: "the scratch folder is removed", Outcome: Fails,
			Notes: []string{t.root.blank(err.Error()), "remove " + place.String() + " by hand"}})
		t.sum.Fails++
	}
}

func removeAll(ctx context.Context, s store.Store, place store.Ref, depth int) error {
	const deepest = 100
	if depth > deepest {
		return errors.New("the scratch folder has no end")
	}
	folder := place.AsFolder()
	var inside []store.Entry
	var failed error
	for entry, err := range s.List(ctx, folder) {
		if err != nil {
			return err
		}
		inside = append(inside, entry)
	}
	for _, entry := range inside {
		child := entry.Ref(folder)
		var err error
		if entry.Kind == store.KindFolder {
			err = removeAll(ctx, s, child, depth+1)
		} else {
			_, err = s.Remove(ctx, child, "")
		}
		if err != nil && store.KindOf(err) != store.ErrNotFound {
			failed = err // what is beside it is removed nevertheless
		}
	}
	if failed != nil {
		return failed
	}
	_, err := s.RemoveFolder(ctx, place)
	return err
}

func (t *trial) renewing(h *handle) {
	signer, ok := t.root.signer.(*tokenSigner)
	if !ok {
		h.Skip("the way to sign in that is used has nothing to be renewed")
	}
	signer.mu.Lock()
	before := signer.current.Access
	signer.mu.Unlock()
	if err := signer.renew(h.Context(), before); err != nil {
		h.Fatal(err)
	}
	signer.mu.Lock()
	after := signer.current.Access
	signer.mu.Unlock()
	if after == before {
		h.Error("the token stayed the same")
	}
	if err := t.root.answers(h.Context()); err != nil {
		h.Fatal("with the renewed token:", err)
	}
}

func (t *trial) space(h *handle) {
	if t.provider.Definition().Space == nil {
		h.Skip("space is not described")
	}
	space, err := t.root.Space(h.Context())
	if err != nil {
		h.Fatal(err)
	}
	t.root.spaceClaims(h, space)
	if space.Used < 0 && space.Free < 0 && space.Total < 0 {
		h.Fatal("used, free and total all come to nothing")
	}
	h.note("used %d, free %d, total %d bytes (-1 is unknown)", space.Used, space.Free, space.Total)
}

func (t *trial) areas(h *handle) {
	if t.provider.Definition().Areas == nil {
		h.Skip("areas are not described")
	}
	titles, err := t.root.Areas(h.Context())
	if err != nil {
		h.Fatal(err)
	}
	h.note("%s", strings.Join(titles, ", "))
}

// documents exports the first document that is found, in every format.
func (t *trial) documents(h *handle) {
	if t.provider.Definition().Export == nil {
		h.Skip("export is not described")
	}
	seen := map[string]bool{}
	looked := 0
	for listed, err := range listing.Flat(h.Context(), t.root, store.Folder{}) {
		if err != nil {
			h.Fatal(err)
		}
		const most = 2000
		if looked++; looked > most {
			break
		}
		if listed.Kind != store.KindDocument || seen[listed.Document] {
			continue
		}
		seen[listed.Document] = true
		kind, ok := store.ExportsOf(t.root, listed.Entry)
		if !ok {
			h.Errorf("%q is a document of the kind %q, which documents does not describe", listed.Name, listed.Document)
			continue
		}
		place := listed.Ref(store.Folder{Path: listed.Below})
		for _, format := range kind.Formats {
			body, err := t.root.Export(h.Context(), place, listed.Revision, format.Name)
			if err != nil {
				h.Errorf("%q as %s: %v", listed.Name, format.Name, err)
				continue
			}
			n, err := io.Copy(io.Discard, body)
			body.Close()
			if err != nil || n == 0 {
				h.Errorf("%q as %s: %d bytes, %v", listed.Name, format.Name, n, err)
				continue
			}
			h.note("%q as %s: %d bytes", listed.Name, format.Name, n)
		}
	}
	if len(seen) == 0 {
		h.Skip("the account holds no document to export; make one there and try again")
	}
}
