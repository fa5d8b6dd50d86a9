package transfer_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// What attacks from outside have lost, each ended at its cause.

// beside lets a file and a folder of both sides have one name.
func (b *bench) beside() {
	for _, m := range []*storetest.Memory{b.source, b.target} {
		m.SetTraits(func(traits *store.Traits) { traits.FileBesideFolder = true })
	}
}

// TestSameNameMirrored removes the folder x at the source, and then the file x: the
// other of them stays at the target each time.
func TestSameNameMirrored(t *testing.T) {
	for _, deletions := range []plan.Deletions{plan.DeleteToo, plan.KeepVersion} {
		b := newBench(t)
		b.beside()
		for i := range 20 {
			b.source.Put(fmt.Sprint("keeps ", i), "keeps", fmt.Sprint(i))
		}
		b.source.Put("the file", "x")
		b.source.Put("inside", "x", "f")
		change := func(rules *plan.Rules) { rules.Deletions = deletions }
		b.mirror("done", change)
		b.wantMirrored()
		b.source.Remove(t.Context(), store.At("x", "f"), "")
		b.source.RemoveFolder(t.Context(), store.At("x"))
		b.mirror("done", change)
		b.wantMirrored()
		if b.target.Files()["/copy/x"] != "the file" {
			t.Errorf("%q: the file went with the folder of its name", deletions)
		}
		b.source.Put("inside", "x", "f")
		b.mirror("done", change)
		b.source.Remove(t.Context(), store.At("x"), "")
		b.mirror("done", change)
		b.wantMirrored()
	}
}

// TestSameNameMoved moves a folder in which a file and a folder have one name; a file
// that is newer than the copied one stays.
func TestSameNameMoved(t *testing.T) {
	b := newBench(t)
	b.beside()
	b.rules.Clear, b.fromRoot = true, store.At("project")
	b.source.Put("the file", "project", "x")
	b.source.Put("inside", "project", "x", "f")
	b.source.Put("not of it", "project ", "y")
	b.run("done")
	b.want(map[string]string{"/copy/x": "the file", "/copy/x/f": "inside"})
	b.left(map[string]string{"/project /y": "not of it"})

	b = newBench(t)
	b.beside()
	b.rules.Clear, b.fromRoot = true, store.At("project")
	b.source.Put("old", "project", "x")
	b.source.Put("inside", "project", "x", "f")
	to := storetest.NewFaulty(b.target)
	to.Add(storetest.Fault{Op: storetest.OpWrite, Name: "f", Times: 1, Do: func() { b.source.Put("newer", "project", "x") }})
	b.to = to
	b.new().Execute(t.Context())
	if got := b.source.Files()["/project/x"]; got != "newer" && b.target.Files()["/copy/x"] != "newer" {
		t.Errorf("the newer version is lost: %v, %v", b.source.Files(), b.target.Files())
	}
}

// TestReplacedWhileRemoved puts a file in the place of a folder, and a folder in that of
// a file, just as they are removed: both stay.
func TestReplacedWhileRemoved(t *testing.T) {
	b := newBench(t)
	for i := range 30 {
		b.source.Put(fmt.Sprint("keeps ", i), fmt.Sprint(i))
	}
	b.source.Put("goes", "folder", "f")
	b.source.Put("goes too", "file")
	b.mirror("done", nil)
	b.source.Remove(t.Context(), store.At("folder", "f"), "")
	b.source.RemoveFolder(t.Context(), store.At("folder"))
	b.source.Remove(t.Context(), store.At("file"), "")
	to := storetest.NewFaulty(b.target)
	to.Add(storetest.Fault{Op: storetest.OpFolder, Name: "folder", Times: 1, Do: func() {
		b.target.RemoveFolder(t.Context(), store.At("copy", "folder"))
		b.target.Put("of somebody", "copy", "folder")
	}})
	to.Add(storetest.Fault{Op: storetest.OpRemove, Name: "file", Times: 1, Do: func() {
		b.target.Remove(t.Context(), store.At("copy", "file"), "")
		b.target.Put("of somebody else", "copy", "file", "inside")
	}})
	b.to = to
	b.mirror("done", func(rules *plan.Rules) { rules.Deletions = plan.DeleteToo })
	files := b.target.Files()
	if files["/copy/folder"] != "of somebody" || files["/copy/file/inside"] != "of somebody else" {
		t.Errorf("what came in the place of what was removed went with it: %v", files)
	}
}

// twice reaches one storage through two accounts whose starting folders differ.
func twice(t *testing.T, from, to store.Ref) *bench {
	b := newBench(t)
	for i := range 20 {
		b.source.Put(fmt.Sprint("content ", i), "all", fmt.Sprint(i))
	}
	b.from, b.to, b.target = b.source, b.source, b.source
	b.fromRoot, b.toRoot = from, to
	return b
}

// TestOneStorageBehindTwoAccounts removes nothing where both ends are one storage.
func TestOneStorageBehindTwoAccounts(t *testing.T) {
	for name, c := range map[string]struct {
		from, to store.Ref
		rules    plan.Rules
	}{
		"cleared":                      {store.At("all"), store.At("all"), plan.Rules{Type: plan.Clearing}},
		"moved":                        {store.At("all"), store.At("all"), plan.Rules{Clear: true}},
		"mirrored":                     {store.At("all"), store.At("all"), plan.Rules{Type: plan.Mirror, Deletions: plan.DeleteToo}},
		"two-way":                      {store.At("all"), store.At("all"), plan.Rules{Type: plan.TwoWay, Deletions: plan.DeleteToo}},
		"mirrored into a folder of it": {store.At(), store.At("all"), plan.Rules{Type: plan.Mirror, Deletions: plan.DeleteToo}},
		"mirrored from a folder of it": {store.At("all"), store.At(), plan.Rules{Type: plan.Mirror, Deletions: plan.DeleteToo}},
	} {
		t.Run(name, func(t *testing.T) {
			b := twice(t, c.from, c.to)
			before := b.source.Files()
			b.rules = c.rules
			result := b.new().Execute(t.Context())
			if result.State != "failed" || result.Cause != plan.CauseSameStorage {
				t.Errorf("%+v, want it stopped", result)
			}
			if got := b.source.Files(); fmt.Sprint(got) != fmt.Sprint(before) {
				t.Errorf("there are %v\nwere %v", got, before)
			}
		})
	}
}

// blind hides what begins like ours, as a place does whose writes show up late.
type blind struct{ *storetest.Memory }

func (b blind) Stat(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if strings.HasPrefix(ref.Name, store.ArrivingPrefix) {
		return store.Entry{}, store.Errorf(store.ErrNotFound, "not yet")
	}
	return b.Memory.Stat(ctx, ref)
}

// TestFirstRemovalIsLookedAt loses one file at most where nothing else shows that both
// ends are one storage.
func TestFirstRemovalIsLookedAt(t *testing.T) {
	b := twice(t, store.At("all"), store.At("all"))
	b.from = blind{b.source}
	b.to = blind{b.source}
	b.source.SetTraits(func(traits *store.Traits) { traits.ReadOnly = false })
	b.rules = plan.Rules{Clear: true}
	b.new().Execute(t.Context())
	if n := len(b.source.Files()); n < 19 {
		t.Errorf("%d of 20 files are left", n)
	}
}

// TestRestartBeforeThePassIsJudged ends the process in the middle of a pass of a
// continuous run that has queued removals: at the next start they are judged first.
func TestRestartBeforeThePassIsJudged(t *testing.T) {
	for _, point := range []string{"while it is planned", "before it is judged"} {
		b := newBench(t)
		for i := range 100 {
			b.source.Put(fmt.Sprint("content ", i), fmt.Sprintf("%03d", i))
		}
		b.rules = plan.Rules{Type: plan.Mirror, Conflict: plan.Source, Deletions: plan.DeleteToo, Safety: plan.DefaultSafety()}
		ctx, end := context.WithCancel(t.Context())
		records := &dying{memory: b.records, end: end}
		passes := 0
		again := func(ctx context.Context, _ transfer.PassResult) (transfer.Touched, bool) {
			if passes++; passes > 1 {
				return transfer.Touched{}, false
			}
			for i := range 40 {
				b.source.Remove(context.Background(), store.At(fmt.Sprintf("%03d", i)), "")
			}
			records.at = point
			return transfer.Touched{All: true}, true
		}
		options := transfer.Options{ID: "continuous", Routes: []transfer.Route{b.route()}, Rules: b.rules, Records: records, Lanes: 4,
			Again: again, Retry: retry.Policy{First: 1}}
		if result := transfer.New(options).Execute(ctx); result.State != "" {
			t.Fatalf("%s: it was not interrupted: %+v", point, result)
		}
		if n := len(b.target.Files()); n != 100 {
			t.Fatalf("%s: %d files are left", point, n)
		}
		options.Resumed, options.Records = true, b.records
		passes = 0
		options.Again = func(context.Context, transfer.PassResult) (transfer.Touched, bool) {
			passes++
			return transfer.Touched{All: true}, passes == 1
		}
		result := transfer.New(options).Execute(t.Context())
		if result.State != "held" || !result.Cause.IsSafety() || len(b.target.Files()) != 100 {
			t.Errorf("%s: %+v with %d files left; want it held with all", point, result, len(b.target.Files()))
		}
		// A person lets it go, and it is done then.
		options.Approved, passes = true, 0
		if result := transfer.New(options).Execute(t.Context()); result.State != "done" || len(b.target.Files()) != 60 {
			t.Errorf("%s: let go, %+v with %d files left; want 60", point, result, len(b.target.Files()))
		}
	}
}

// dying ends the process at a point.
type dying struct {
	*memory
	end context.CancelFunc
	at  string
}

func (d *dying) Enqueue(ctx context.Context, run string, items []transfer.Item) error {
	err := d.memory.Enqueue(ctx, run, items)
	if d.at == "while it is planned" {
		d.end()
	}
	return err
}

func (d *dying) Judge(ctx context.Context, run string, seq int64, lost []transfer.Loss, planned *plan.Totals) error {
	if d.at == "before it is judged" {
		d.end()
		return ctx.Err()
	}
	return d.memory.Judge(ctx, run, seq, lost, planned)
}

func (d *dying) Ask(ctx context.Context, run string, seq int64) error {
	if d.at != "" {
		d.end()
		return ctx.Err()
	}
	return d.memory.Ask(ctx, run, seq)
}

// TestDuplicateOfWhatIsOverwritten consolidates a file whose content is at the target
// under another name, which the same run overwrites: it is there afterwards.
func TestDuplicateOfWhatIsOverwritten(t *testing.T) {
	for name, change := range map[string]func(*bench){
		"found later": func(b *bench) { b.source.Put("the content", "z copy") },
		"found first": func(b *bench) { b.source.Put("the content", "a copy") },
	} {
		b := newBench(t)
		b.source.Put("the content", "m")
		routes := []transfer.Route{b.route()}
		routes[0].Contents = "of the job"
		run := func() {
			runs++
			b.records.restart()
			run := transfer.New(transfer.Options{ID: fmt.Sprint("run", runs), Routes: routes,
				Rules:   plan.Rules{IdenticalOnce: true, Conflict: plan.Source},
				Records: b.records, Lanes: 4})
			if result := run.Execute(t.Context()); result.State != "done" {
				t.Fatalf("%+v", result)
			}
		}
		run()
		change(b)
		b.source.Put("another content now", "m")
		run()
		held := map[string]bool{}
		for _, content := range b.target.Files() {
			held[content] = true
		}
		if !held["the content"] || !held["another content now"] {
			t.Errorf("%s: the target holds %v", name, b.target.Files())
		}
	}
}

// vague is an account whose revisions are of size and seconds, as a file server's.
func vague(m *storetest.Memory) {
	m.Vague, m.NoHashes = true, true
	m.SetTraits(func(traits *store.Traits) {
		traits.Revisions, traits.TimePrecision = store.RevisionsOfTimes, time.Second
	})
}

// TestMetadataIsNotContent rewrites contents with the same size and time where revisions
// are made of those: nothing is removed or overwritten on their account.
func TestMetadataIsNotContent(t *testing.T) {
	at := time.Date(2025, 5, 5, 5, 5, 5, 0, time.UTC)

	b := newBench(t) // cleared after it was rewritten
	vague(b.source)
	b.rules.Clear, b.fromRoot = true, store.At("in")
	b.source.PutAt("version 1", at, "in", "x")
	to := storetest.NewFaulty(b.target)
	to.Add(storetest.Fault{Op: storetest.OpWrite, Name: "x", Times: 1, After: true, Err: store.Errorf(store.ErrOutcomeUnknown, "lost"),
		Do: func() {}})
	from := storetest.NewFaulty(b.source)
	b.from = from
	listed := 0
	from.Add(storetest.Fault{Op: storetest.OpList, Name: "in", Do: func() {
		if listed++; listed == 2 { // it is listed again before it is cleared
			b.source.PutAt("version 2", at, "in", "x")
		}
	}})
	b.run("partial")
	if b.source.Files()["/in/x"] != "version 2" {
		t.Errorf("the source was cleared of what is nowhere else: %v, %v", b.source.Files(), b.target.Files())
	}

	b = newBench(t) // removed at the target
	vague(b.target)
	for i := range 20 {
		b.source.PutAt(fmt.Sprint("keeps ", i), at, fmt.Sprint(i))
	}
	b.source.PutAt("version 1", at, "x")
	follow := func(rules *plan.Rules) { rules.Type, rules.Deletions = plan.TwoWay, plan.DeleteToo }
	b.mirror("done", follow)
	b.source.Remove(t.Context(), store.At("x"), "")
	b.target.PutAt("version 2", at, "copy", "x")
	b.mirror("done", follow)
	if b.target.Files()["/copy/x"] != "version 2" {
		t.Errorf("a version that nobody has seen was removed: %v", b.target.Files())
	}

	b = newBench(t) // overwritten at the target
	vague(b.target)
	b.source.PutAt("version 1", at, "x")
	b.mirror("done", follow)
	b.target.PutAt("version 2", at, "copy", "x")
	b.source.Put("version 3", "x")
	b.mirror("done", func(rules *plan.Rules) { follow(rules); rules.Conflict = plan.KeepBoth })
	held := fmt.Sprint(b.target.Files())
	if !strings.Contains(held, "version 2") || !strings.Contains(held, "version 3") {
		t.Errorf("one of two versions is lost: %s", held)
	}
}

// TestIdentityIsNotContent gives other contents the identities, sizes and times of those
// that were removed, as inodes are used again and archives fix times.
func TestIdentityIsNotContent(t *testing.T) {
	at := time.Date(2025, 5, 5, 5, 5, 5, 0, time.UTC)
	b := newBench(t)
	b.source.NoHashes, b.source.Inodes = true, true
	b.source.SetTraits(func(traits *store.Traits) { traits.Revisions = store.RevisionsOfClock })
	target := &copying{Memory: b.target}
	b.to = target
	for i := range 50 {
		b.source.PutAt(fmt.Sprintf("release 1 %02d", i), at, "r1", fmt.Sprint(i))
	}
	b.run("done")
	for i := range 50 {
		b.source.Remove(t.Context(), store.At("r1", fmt.Sprint(i)), "")
		b.source.PutAt(fmt.Sprintf("release 2 %02d", i), at, "r2", fmt.Sprint(i))
	}
	b.run("done")
	for i := range 50 {
		if got, want := b.target.Files()[fmt.Sprint("/copy/r2/", i)], fmt.Sprintf("release 2 %02d", i); got != want {
			t.Errorf("%d holds %q, want %q", i, got, want)
		}
	}
	if target.copies.Load() > 0 {
		t.Errorf("%d were copied inside the account", target.copies.Load())
	}
}

// TestReadBackReads has a target altered with its size and time put back found by a copy
// that verifies by reading, and not taken for the same by one that does.
func TestReadBackReads(t *testing.T) {
	at := time.Date(2025, 5, 5, 5, 5, 5, 0, time.UTC)
	b := newBench(t)
	vague(b.source)
	vague(b.target)
	b.source.PutAt("as it was", at, "x")
	b.run("done")
	b.target.PutAt("altered !", at, "copy", "x")
	b.rules.Verification, b.rules.Conflict = store.VerifyByReading, plan.Source
	b.run("done")
	b.want(map[string]string{"/copy/x": "as it was"})
}

// TestAssumed says of files that were there before that size and time alone were equal.
func TestAssumed(t *testing.T) {
	at := time.Date(2025, 5, 5, 5, 5, 5, 0, time.UTC)
	b := newBench(t)
	vague(b.source)
	b.source.PutAt("as it was", at, "x")
	b.target.PutAt("something", at, "copy", "x")
	totals, err := transfer.Plan(t.Context(), []transfer.Route{b.route()}, b.rules, b.records, nil, transfer.PlanListener{})
	if err != nil || totals.Assumed != (plan.Count{Items: 1, Bytes: 9}) || totals.Unchanged.Items != 1 {
		t.Errorf("%+v, %v", totals, err)
	}
}

// TestReplacedRoot stops where the folder of an account is another than it was.
func TestReplacedRoot(t *testing.T) {
	b := newBench(t)
	for i := range 20 {
		b.source.Put(fmt.Sprint("content ", i), fmt.Sprint(i))
	}
	b.mirror("done", nil)
	before := fmt.Sprint(b.target.Files())
	b.source.Replace()
	for i := range 20 {
		b.source.Remove(t.Context(), store.At(fmt.Sprint(i)), "")
	}
	b.records.restart()
	if result := b.new().Execute(t.Context()); result.State != "failed" || result.Cause != plan.CauseRootGone {
		t.Errorf("%+v", result)
	}
	if got := fmt.Sprint(b.target.Files()); got != before {
		t.Errorf("the target holds %s", got)
	}
}

// TestOtherPlace edits an account to lead elsewhere, and back: what the new place lacks
// is not removed at the other side, and a later deletion is followed again.
func TestOtherPlace(t *testing.T) {
	for _, kind := range []plan.Type{plan.Mirror, plan.TwoWay} {
		b := newBench(t)
		located := &at{Memory: b.source, place: "first"}
		b.from = located
		b.witnessed = true
		for i := range 20 {
			b.source.Put(fmt.Sprint("content ", i), fmt.Sprint(i))
		}
		rules := func(rules *plan.Rules) { rules.Type = kind }
		b.mirror("done", rules)
		other := storetest.NewMemory()
		other.Put("content 0", "0")
		located.Memory, located.place = other, "second"
		b.mirror("done", rules)
		if n := len(b.target.Files()); n < 20 {
			t.Errorf("%s: at another place %d files are left", kind, n)
		}
		// Back again, from where something was deleted meanwhile: nobody knows that it
		// was, and it is not deleted at the target.
		b.source.Remove(t.Context(), store.At("7"), "")
		located.Memory, located.place = b.source, "first"
		b.mirror("done", rules)
		if b.target.Files()["/copy/7"] != "content 7" {
			t.Errorf("%s: back again, a file was removed on what was remembered of another place", kind)
		}
		b.mirror("done", rules)
		b.source.Remove(t.Context(), store.At("3"), "")
		b.mirror("done", rules)
		if _, there := b.target.Files()["/copy/3"]; there {
			t.Errorf("%s: a deletion is not followed any more", kind)
		}
	}
}

// at is an account that says where it is.
type at struct {
	*storetest.Memory
	place string
}

func (a *at) Capabilities() store.Capabilities {
	c := a.Memory.Capabilities()
	c.Locate = func(folder store.Folder) string { return "memory://" + a.place + "/" + string(folder.Path) }
	return c
}

// TestRestoredRecords puts the records back to an earlier state, and the target in
// another run: what they remember is not believed, and nothing is removed on it.
func TestRestoredRecords(t *testing.T) {
	for _, restored := range []string{"records", "target"} {
		b := newBench(t)
		b.witnessed = true
		for i := range 20 {
			b.source.Put(fmt.Sprint("content ", i), fmt.Sprint(i))
		}
		two := func(rules *plan.Rules) { rules.Type = plan.TwoWay }
		b.mirror("done", two)
		kept := b.records.copy()
		token := b.target.Files()
		// A file is deleted for good, and somebody puts it back at the target with the
		// revision that it had.
		b.source.Remove(t.Context(), store.At("5"), "")
		b.mirror("done", two)
		entry := b.target.Put("content 5", "copy", "5")
		if restored == "records" {
			b.records = kept
			pair := b.records.pairs["desk to archive"]["5"]
			pair.Target.Revision = entry.Revision
			b.records.pairs["desk to archive"]["5"] = pair
		} else {
			for address, content := range token {
				if strings.HasPrefix(address, "/.heron/sync/") {
					b.target.Put(content, strings.Split(address[1:], "/")...)
				}
			}
		}
		b.mirror("done", two)
		if b.target.Files()["/copy/5"] != "content 5" || b.source.Files()["/5"] != "content 5" {
			t.Errorf("%s put back: a file is lost: %v", restored, b.target.Files()["/copy/5"])
		}
	}
}

// TestOthersNamesLikeOurs copies files of somebody whose names begin like those of ours.
func TestOthersNamesLikeOurs(t *testing.T) {
	b := newBench(t)
	b.source.Put("notes", ".heron-arriving-notes.txt")
	b.source.Put("ours", store.ArrivingName("run9", "0123456789ab"))
	b.run("done")
	b.want(map[string]string{"/copy/.heron-arriving-notes.txt": "notes"})
}

// TestReplacedByALink puts a link in the place of a file between the listing and the
// copy: it is skipped, as one that was listed, and not a failure.
func TestReplacedByALink(t *testing.T) {
	b := newBench(t)
	b.source.Put("a file", "a")
	b.source.Put("a file too", "b")
	b.source.Link("c")
	from := storetest.NewFaulty(b.source)
	from.Add(storetest.Fault{Op: storetest.OpOpen, Name: "b", Times: 1, Do: func() { b.source.Link("b") }})
	b.from = from
	b.run("done")
	b.ended("b", transfer.Skipped, plan.CauseNotAFile)
	b.ended("c", transfer.Skipped, plan.CauseNotAFile)
	b.want(map[string]string{"/copy/a": "a file"})
}

// TestLimitsOverPasses has a continuous run go on through passes that look at some
// places, at none, and after a restart, and holds it only where too much is lost.
func TestLimitsOverPasses(t *testing.T) {
	for name, moves := range map[string]bool{"moves inside": true, "copies inside": false} {
		b := newBench(t)
		account := &storetest.Account{Memory: b.target, Moves: moves, Copies: true}
		b.to = account
		for i := range 100 {
			b.source.Put(fmt.Sprint("content ", i), fmt.Sprintf("%03d", i))
		}
		other := b.route()
		other.Source.Root, other.Target.Root, other.Scope = store.At("small"), store.At("small copy"), "small"
		b.source.Put("of few", "small", "x")
		b.source.Put("of few", "small", "y")
		rules := plan.Rules{Type: plan.Mirror, Conflict: plan.Source, Deletions: plan.DeleteToo, Safety: plan.DefaultSafety()}
		rules.Filter.Exclude = []string{"/small"}
		place := func(route int, name string) transfer.TouchedPlace {
			return transfer.TouchedPlace{Route: route, Path: store.MakePath(name)}
		}
		remove := func(names ...string) { // at the source
			for _, name := range names {
				b.source.Remove(context.Background(), store.At(name), "")
			}
		}
		steps := []func() transfer.Touched{
			func() transfer.Touched { // 8 of 100, which is allowed
				var touched transfer.Touched
				for i := range 8 {
					remove(fmt.Sprintf("%03d", i))
					touched.Places = append(touched.Places, place(0, fmt.Sprintf("%03d", i)))
				}
				return touched
			},
			func() transfer.Touched { return transfer.Touched{} },
			func() transfer.Touched { // of the small route, of which nothing is lost
				b.source.Put("changed", "small", "x")
				return transfer.Touched{Places: []transfer.TouchedPlace{place(1, "x")}}
			},
			func() transfer.Touched { // 50 of 92 are moved
				for i := range 50 {
					b.source.Rename(store.At(fmt.Sprintf("%03d", 20+i)), store.At("moved", fmt.Sprintf("%03d", 20+i)))
				}
				return transfer.Touched{All: true}
			},
		}
		step := 0
		options := transfer.Options{
			ID: "continuous", Routes: []transfer.Route{b.route(), other}, Rules: rules, Records: b.records, Lanes: 4, Retry: retry.Policy{First: 1},
			Again: func(context.Context, transfer.PassResult) (transfer.Touched, bool) {
				if step++; step > len(steps) {
					return transfer.Touched{}, false
				}
				return steps[step-1](), true
			},
		}
		if result := transfer.New(options).Execute(t.Context()); result.State != "done" || step <= len(steps) {
			t.Errorf("%s: after step %d %+v; want all steps done", name, step, result)
			continue
		}
		// It is taken up again: what has moved is not lost, and the 8 still count.
		steps, step = []func() transfer.Touched{
			func() transfer.Touched {
				remove("010")
				return transfer.Touched{Places: []transfer.TouchedPlace{place(0, "010")}}
			},
			func() transfer.Touched {
				remove("011", "012")
				return transfer.Touched{Places: []transfer.TouchedPlace{place(0, "011"), place(0, "012")}}
			},
		}, 0
		options.Resumed = true
		result := transfer.New(options).Execute(t.Context())
		if result.State != "held" || step != 2 || !strings.Contains(result.Why, "11 of ") {
			t.Errorf("%s: taken up again, after step %d %+v; want it held for 11 files in the second", name, step, result)
		}
	}
}
