package e2e

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"text/tabwriter"
	"time"

	"deftheron/core/gate"
	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
	"deftheron/provider/declared"
	"deftheron/provider/folder"
	"deftheron/provider/ftp"
	"deftheron/provider/s3"
	"deftheron/provider/sealed"
	"deftheron/provider/sftp"
	"deftheron/provider/site/sitetest"
	"deftheron/provider/smb"
	"deftheron/provider/webdav"
	"deftheron/service/access"
	"deftheron/service/accounts"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// opened is the accounts of a service that has ended, in this process, where faults
// can be put between them and a run.
type opened struct {
	t        *testing.T
	db       *records.DB
	accounts *accounts.Accounts
}

func openAccounts(t *testing.T, h *heron) *opened {
	t.Helper()
	h.end(syscall.SIGTERM)
	db, err := records.Open(h.data)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	sealer, err := access.OpenKey(t.Context(), db, h.data, "", false)
	if err != nil {
		t.Fatal(err)
	}
	drives, err := declared.Shipped()
	if err != nil {
		t.Fatal(err)
	}
	providers := []store.Provider{folder.Provider{}, s3.Provider{}, webdav.Provider{}, sftp.Provider{}, ftp.Provider{}, smb.Provider{},
		sealed.Provider{}}
	for _, drive := range drives {
		providers = append(providers, drive)
	}
	return &opened{t, db, accounts.New(db, sealer, providers, slog.New(slog.DiscardHandler))}
}

// injected is one kind of fault: what is done to a run, and what may come of it.
type injected struct {
	name string
	// prepare puts the fault between a run and the place, which is its target,
	// or its source where reads says so.
	prepare func(f *fixture)
	reads   bool
	// held says that the run waits for a person first, and then goes on.
	held bool
	// failed are the items that may fail, or be left out, with a cause.
	failed []string
	// stops says that the run may end without having moved all.
	stops bool
}

// fixture is one run: contents that go to a place, or come from it.
type fixture struct {
	t        *testing.T
	other    *storetest.Memory // the other side
	faulty   *storetest.Faulty // around the place
	far      *storetest.Faulty // around the other side
	place    store.Store
	root     store.Ref
	contents map[string]string
}

var faults = []injected{
	{name: "refused", prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Times: 3, Err: store.Errorf(store.ErrTryAgain, "connection refused")})
	}},
	{name: "5xx to looks", prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpMakeFolder, Times: 1, Err: store.Errorf(store.ErrTryAgain, "502")})
		f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "b.txt", Times: 2, Err: store.Errorf(store.ErrTryAgain, "503")})
	}},
	{name: "429", prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Times: 3, Err: store.SlowDown(time.Millisecond, nil)})
	}},
	{name: "body cut", prepare: func(f *fixture) {
		f.far.Add(storetest.Fault{Op: storetest.OpRead, Name: "large.bin", Times: 1, At: 100_000, Err: store.Errorf(store.ErrTryAgain, "reset")})
	}},
	{name: "stalled", prepare: func(f *fixture) { // until the connection counts as lost
		f.far.Add(storetest.Fault{Op: storetest.OpRead, Name: "large.bin", Times: 1, At: 200_000,
			Err: store.Errorf(store.ErrTryAgain, "nothing came for too long"), Do: func() { time.Sleep(30 * time.Millisecond) }})
		f.faulty.Add(storetest.Fault{Op: storetest.OpStat, Name: "b.txt", Times: 1,
			Err: store.Errorf(store.ErrTryAgain, "nothing came for too long")})
	}},
	{name: "clocks differ", prepare: func(f *fixture) { // by years, in both directions
		for name, content := range f.contents {
			at := time.Now().AddDate(3, 0, 0)
			if len(content) < 10 {
				at = time.Date(1995, 2, 3, 4, 5, 6, 0, time.UTC)
			}
			f.other.PutAt(content, at, append([]string{"all"}, strings.Split(name, "/")...)...)
		}
	}},
	{name: "body cut for ever", failed: []string{"d/large.bin"}, prepare: func(f *fixture) {
		f.far.Add(storetest.Fault{Op: storetest.OpRead, Name: "large.bin", At: 100_000, Err: store.Errorf(store.ErrTryAgain, "reset")})
	}},
	{name: "bit flipped", prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "b.txt", Times: 1, Flip: true})
	}},
	{name: "answer lost", prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Times: 2, After: true, Err: store.Errorf(store.ErrOutcomeUnknown, "no answer")})
	}},
	{name: "sign-in expired", held: true, prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "b.txt", Err: store.Errorf(store.ErrSignInExpired, "401")})
	}},
	{name: "quota full", held: true, prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "large.bin", Err: store.Errorf(store.ErrNoSpace, "507")})
	}},
	{name: "name refused", failed: []string{"a.txt"}, prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "a.txt", Err: store.Errorf(store.ErrNameRefused, "no")})
	}},
	{name: "read-only in the middle", failed: []string{"a.txt", "d/b.txt", "d/large.bin", "d/empty", "e/zero", "é NFC.txt", "é NFD.txt"},
		prepare: func(f *fixture) {
			f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "b.txt", Err: store.Errorf(store.ErrRefused, "403")})
			f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "large.bin", Err: store.Errorf(store.ErrRefused, "403")})
		}},
	{name: "folder removed", prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "b.txt", Times: 1, Err: store.Errorf(store.ErrNotFound, "the folder is gone")})
	}},
	{name: "target list fails", stops: true, prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpList, Err: store.Errorf(store.ErrRefused, "page 2 failed"), At: 0})
	}},
	{name: "changed while read", prepare: func(f *fixture) {
		f.far.Add(storetest.Fault{Op: storetest.OpRead, Name: "b.txt", Times: 1, Err: store.Errorf(store.ErrChanged, "changed"), Do: func() {
			f.other.Put("it has changed", "all", "d", "b.txt")
			f.contents["d/b.txt"] = "it has changed"
		}})
	}},
	{name: "removed before read", failed: []string{"d/b.txt"}, prepare: func(f *fixture) {
		f.far.Add(storetest.Fault{Op: storetest.OpOpen, Name: "b.txt", Err: store.Errorf(store.ErrNotFound, "gone")})
	}},
	{name: "size unknown", prepare: func(f *fixture) {}}, // by the fixture
	{name: "read: cut", reads: true, prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpRead, Name: "large.bin", Times: 2, At: 65_000,
			Err: store.Errorf(store.ErrTryAgain, "reset")})
	}},
	{name: "read: bit flipped", reads: true, failed: []string{"d/b.txt"}, prepare: func(f *fixture) {}}, // by the other side
	{name: "read: 429", reads: true, prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpOpen, Times: 3, Err: store.SlowDown(time.Millisecond, nil)})
	}},
	{name: "read: lapsed", reads: true, held: true, prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpOpen, Name: "b.txt", Err: store.Errorf(store.ErrSignInExpired, "401")})
	}},
	{name: "read: list fails", reads: true, stops: true, prepare: func(f *fixture) {
		f.faulty.Add(storetest.Fault{Op: storetest.OpList, Name: "d", Err: store.Errorf(store.ErrRefused, "page 2 failed"), At: 1})
	}},
}

// unsized is a source that does not tell sizes.
type unsized struct{ store.Store }

func (u unsized) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		for entry, err := range u.Store.List(ctx, folder) {
			if entry.Kind == store.KindFile {
				entry.Size = -1
			}
			if !yield(entry, err) {
				return
			}
		}
	}
}

// TestFaults puts every kind of fault between a run and every kind of place, on real
// servers: what is at the target in the end is equal, or its item says why not, and
// nothing partial or left over is there.
func TestFaults(t *testing.T) {
	t.Parallel()
	h := start(t)
	places := linkServers(t, h)
	for _, base := range sealedBases() {
		h.linkSealed("sealed-"+base, "/"+base+"/vault")
		places = append(places, "sealed-"+base)
	}
	o := openAccounts(t, h)
	var mu sync.Mutex
	results := map[string]string{}
	var group sync.WaitGroup
	places = append(places, atSite+"openssh", atSite+"versitygw")
	for _, name := range places {
		beneath, through := strings.CutPrefix(name, atSite)
		account, err := o.accounts.Open(t.Context(), beneath)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if through {
			real := account.Store
			if account.Store, _, err = sitetest.Open(t.Context(), 2, func(string) store.Store { return real }); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
		}
		t.Cleanup(func() { store.Close(account.Store) })
		if err := store.Prepare(t.Context(), account.Store); err != nil {
			t.Fatal(err)
		}
		group.Go(func() {
			for i, fault := range faults {
				result := o.inject(account.Store, account.Gate, name, fmt.Sprintf("f%02d%s", i, strings.ReplaceAll(name, "-", "")), fault)
				mu.Lock()
				results[name+" "+fault.name] = result
				mu.Unlock()
			}
			result := o.cleared(account.Store, account.Gate, name, "moved"+strings.ReplaceAll(name, "-", ""))
			mu.Lock()
			results[name+" "+workedIn] = result
			mu.Unlock()
		})
	}
	group.Wait()
	var b strings.Builder
	w := tabwriter.NewWriter(&b, 0, 0, 2, ' ', 0)
	fmt.Fprintf(w, "fault\t%s\n", strings.Join(places, "\t"))
	kinds := []string{workedIn}
	for _, fault := range faults {
		kinds = append(kinds, fault.name)
	}
	for _, kind := range kinds {
		fmt.Fprint(w, kind)
		for _, place := range places {
			result := results[place+" "+kind]
			if strings.HasPrefix(result, "WRONG") {
				t.Errorf("%s, %s: %s", place, kind, result)
				result = "WRONG"
			}
			fmt.Fprint(w, "\t"+result)
		}
		fmt.Fprintln(w)
	}
	w.Flush()
	t.Log("what came of each fault\n" + b.String())
}

// atSite is before the name of an account that is used through the workers of a site.
const atSite = "site-"

// workedIn is the fault that people work at a source while a run moves it away.
const workedIn = "moved while worked in"

// cleared moves a folder of the place away while people work in it: they write a file
// again with its size and its time, put a folder in place of another, and a file in place
// of a folder. No content that they have written may be gone afterwards from both sides.
func (o *opened) cleared(place store.Store, ownGate *gate.Gate, account, id string) string {
	ctx := o.t.Context()
	wrong := func(format string, args ...any) string { return "WRONG: " + fmt.Sprintf(format, args...) }
	root := store.At(id)
	at := func(steps ...string) store.Ref { return store.At(append([]string{id}, steps...)...) }
	write := func(content string, modified time.Time, where store.Ref) error {
		precondition := store.Absent
		if entry, err := place.Stat(ctx, where.As(store.KindFile)); err == nil {
			precondition = store.AtRevision(entry.Revision)
		}
		_, err := place.Write(ctx, store.Writing{Place: where, Size: int64(len(content)), If: precondition, Modified: modified, Run: id,
			Content: storetest.Text(content)})
		return err
	}
	fixed := time.Date(2025, 5, 5, 5, 5, 5, 0, time.UTC)
	_, err := place.MakeFolder(ctx, root)
	if err == nil {
		_, err = place.MakeFolder(ctx, at("e"))
	}
	for path, content := range map[string]string{"a.txt": "the first", "b.txt": "the second", "c.txt": "the third", "e/file": "within",
		"zz.txt": "the last"} {
		err = errors.Join(err, write(content, fixed, at(strings.Split(path, "/")...)))
	}
	if err != nil {
		return wrong("%v", err)
	}
	back := storetest.NewMemory()
	faulty := storetest.NewFaulty(back)
	worked := errors.New("nobody worked in it")
	faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "zz.txt", Times: 1, Do: func() {
		file, err := place.Stat(ctx, at("b.txt"))
		worked = errors.Join(err, write("THE SECOND", file.Modified, at("b.txt")))
		for _, gone := range []store.Ref{at("c.txt"), at("e", "file")} {
			_, err := place.Remove(ctx, gone, "")
			worked = errors.Join(worked, err)
		}
		_, err = place.MakeFolder(ctx, at("c.txt"))
		worked = errors.Join(worked, err, write("in the folder", fixed, at("c.txt", "in it")))
		_, err = place.RemoveFolder(ctx, at("e"))
		worked = errors.Join(worked, err, write("in place of the folder", fixed, at("e")))
	}})
	job := records.Job{ID: id, Name: id, Type: "copy", Routes: []records.Route{}, CreatedAt: time.Now(), OneOff: true}
	row := records.Run{ID: id, Job: id, State: "running", Routes: []records.Route{}, CreatedAt: time.Now()}
	if err := o.db.AddRun(ctx, &job, &row); err != nil {
		return wrong("%v", err)
	}
	result := transfer.New(transfer.Options{
		ID: id, Records: o.db, Lanes: 1, Scratch: o.t.TempDir(), HeadStart: time.Millisecond, Retry: retry.Policy{First: time.Millisecond},
		Rules: plan.Rules{Clear: true},
		Routes: []transfer.Route{{
			Source: transfer.Side{Account: account, Address: store.MakeAddress(account, root), Store: place, Root: root, Gate: ownGate},
			Target: transfer.Side{Account: "back", Address: store.MakeAddress("back", root), Store: faulty, Root: root,
				Gate: gate.New("back", 8, 8)},
			Scope: id,
		}},
	}).Execute(ctx)
	if worked != nil {
		return wrong("%v (%+v)", worked, result)
	}
	left, err := contents(ctx, place, root.AsFolder())
	if err != nil {
		return wrong("%v", err)
	}
	arrived, err := contents(ctx, back, root.AsFolder())
	if err != nil {
		return wrong("%v", err)
	}
	for path, content := range map[string]string{"b.txt": "THE SECOND", "c.txt/in it": "in the folder", "e": "in place of the folder"} {
		if left[path] != content && arrived[path] != content {
			return wrong("%s, %q, is gone; there are %q and %q (%+v)", path, content, left, arrived, result)
		}
	}
	if _, there := left["a.txt"]; there || arrived["a.txt"] != "the first" {
		return wrong("a.txt was not moved: %q and %q (%+v)", left, arrived, result)
	}
	return "nothing lost"
}

// contents are those of all files below a folder, by their paths; what is left over of
// ours is an error.
func contents(ctx context.Context, s store.Store, root store.Folder) (map[string]string, error) {
	there := map[string]string{}
	var list func(folder store.Folder, below string) error
	list = func(folder store.Folder, below string) error {
		for entry, err := range s.List(ctx, folder) {
			if err != nil {
				return err
			}
			name := below + entry.Name
			if strings.HasPrefix(entry.Name, store.ArrivingPrefix) {
				return fmt.Errorf("%s is left over", name)
			}
			if entry.Kind == store.KindFolder {
				if err := list(entry.Folder(folder), name+"/"); err != nil {
					return err
				}
				continue
			}
			body, err := s.Open(ctx, store.Reading{Place: entry.Ref(folder), Revision: entry.Revision})
			if err != nil {
				return err
			}
			content, err := io.ReadAll(body)
			if err := errors.Join(err, body.Close()); err != nil {
				return err
			}
			there[name] = string(content)
		}
		return nil
	}
	return there, list(root, "")
}

// inject carries out one run with one fault, and says what came of it.
func (o *opened) inject(place store.Store, ownGate *gate.Gate, account, id string, fault injected) string {
	ctx, t := o.t.Context(), o.t
	f := &fixture{t: t, other: storetest.NewMemory(), place: place, root: store.At(id), contents: map[string]string{
		"a.txt": "a", "d/b.txt": "the second", "d/large.bin": strings.Repeat("0123456789abcdef", 20_000), "d/empty": "", "e/zero": "",
		"é NFC.txt": "composed", "é NFD.txt": "decomposed",
	}}
	f.faulty, f.far = storetest.NewFaulty(place), storetest.NewFaulty(f.other)
	wrong := func(format string, args ...any) string { return "WRONG: " + fmt.Sprintf(format, args...) }
	if fault.reads { // the place holds the contents
		if _, err := place.MakeFolder(ctx, f.root); err != nil {
			return wrong("%v", err)
		}
	}
	for name, content := range f.contents {
		steps := append([]string{"all"}, strings.Split(name, "/")...)
		f.other.Put(content, steps...)
	}
	near := transfer.Side{Account: "other", Address: store.MakeAddress("other", store.At("all")), Store: f.far, Root: store.At("all"),
		Gate: gate.New("other", 8, 8)}
	far := transfer.Side{Account: account, Address: store.MakeAddress(account, f.root), Store: f.faulty, Root: f.root, Gate: ownGate}
	route := transfer.Route{Source: near, Target: far, Scope: id}
	run := func(id string, resumed bool, route transfer.Route) (transfer.Result, error) {
		if !resumed {
			job := records.Job{ID: id, Name: id, Type: "copy", Routes: []records.Route{}, CreatedAt: time.Now(), OneOff: true}
			row := records.Run{ID: id, Job: id, State: "running", Routes: []records.Route{}, CreatedAt: time.Now()}
			if err := o.db.AddRun(ctx, &job, &row); err != nil {
				return transfer.Result{}, err
			}
		}
		return transfer.New(transfer.Options{
			ID: id, Resumed: resumed, Routes: []transfer.Route{route}, Records: o.db, Lanes: 3, Scratch: t.TempDir(), HeadStart: time.Millisecond,
			Retry: retry.Policy{First: time.Millisecond},
		}).Execute(ctx), nil
	}
	target := place
	if fault.reads {
		if result, err := run(id+"fill", false, route); err != nil || result.State != "done" {
			return wrong("it could not be filled: %+v, %v", result, err)
		}
		back := storetest.NewMemory()
		backFaulty := storetest.NewFaulty(back)
		if fault.name == "read: bit flipped" { // on its way to the other side
			backFaulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: "b.txt", Flip: true})
		}
		target = back
		route = transfer.Route{Source: far, Target: transfer.Side{Account: "back", Address: store.MakeAddress("back", store.At(id)),
			Store: backFaulty, Root: f.root, Gate: gate.New("back", 8, 8)}, Scope: id + "back"}
	}
	if fault.name == "size unknown" {
		route.Source.Store = unsized{f.far}
	}
	fault.prepare(f)
	result, err := run(id, false, route)
	if err != nil {
		return wrong("%v", err)
	}
	word := "equal"
	if fault.held {
		if result.State != "held" || result.Cause == "" {
			return wrong("it ended %+v, want it held", result)
		}
		f.faulty.Clear()
		if result, err = run(id, true, route); err != nil {
			return wrong("%v", err)
		}
		word = "held, equal"
	}
	missing, err := f.compare(ctx, target, f.root)
	if err != nil {
		return wrong("%v (%+v)", err, result)
	}
	if fault.stops {
		if result.State != "failed" || result.Cause == "" || messages.Of(result.Cause).Remedy == "" {
			return wrong("it ended %+v, want it failed with a cause", result)
		}
		return "failed: " + string(result.Cause)
	}
	number, err := o.db.Run(ctx, id)
	if err != nil {
		return wrong("%v", err)
	}
	causes := map[string]plan.Cause{}
	items, _, err := o.db.FindItems(ctx, number.Number, records.ItemFilter{}, 0, 1000)
	if err != nil {
		return wrong("%v", err)
	}
	for _, item := range items {
		if item.State == transfer.Waiting {
			return wrong("%s has no end", item.Key)
		}
		if item.State != transfer.Done {
			if item.Cause == "" || messages.Of(item.Cause).Remedy == "" {
				return wrong("%s is %s with the cause %q", item.Key, item.State, item.Cause)
			}
			causes[string(item.Key)] = item.Cause
		}
	}
	var kinds []string
	for _, name := range missing {
		if causes[name] == "" || !slices.Contains(fault.failed, name) {
			return wrong("%q is not there, and its item says %q (%+v)", name, causes[name], result)
		}
		kinds = append(kinds, string(causes[name]))
	}
	if len(kinds) > 0 {
		slices.Sort(kinds)
		return strings.Join(slices.Compact(kinds), ", ")
	}
	if result.State != "done" {
		return wrong("it ended %+v", result)
	}
	return word
}

// compare reads all that is at the target: what is missing is returned, and what is
// wrong, or of ours, is an error.
func (f *fixture) compare(ctx context.Context, target store.Store, root store.Ref) (missing []string, err error) {
	there, err := contents(ctx, target, root.AsFolder())
	if err != nil && store.KindOf(err) != store.ErrNotFound {
		return nil, err
	}
	for name, content := range there {
		if want, ok := f.contents[name]; !ok || want != content {
			return nil, fmt.Errorf("%q holds %d bytes that are not what was sent", name, len(content))
		}
	}
	for name := range f.contents {
		if _, ok := there[name]; !ok {
			missing = append(missing, filepath.ToSlash(name))
		}
	}
	slices.Sort(missing)
	return missing, nil
}
