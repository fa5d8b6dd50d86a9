package transfer_test

import (
	"context"
	"fmt"
	"io"
	"maps"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/bandwidth"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// copying is a memory that can copy inside itself.
type copying struct {
	*storetest.Memory
	copies atomic.Int64
}

// Capabilities implements store.Store.
func (c *copying) Capabilities() store.Capabilities {
	capabilities := c.Memory.Capabilities()
	capabilities.Copy = c.Copy
	return capabilities
}

// Copy is store.Capabilities.Copy.
func (c *copying) Copy(ctx context.Context, from store.Ref, revision string, to store.Ref, _ string) (store.Entry, error) {
	entry, err := c.Stat(ctx, from)
	if err != nil {
		return entry, err
	}
	if entry.Revision != revision {
		return entry, store.Errorf(store.ErrChanged, "%s is another", from)
	}
	if _, err := c.Stat(ctx, to); err == nil {
		return entry, store.Errorf(store.ErrExists, "%s is there", to)
	}
	body, err := c.Open(ctx, store.Reading{Place: from})
	if err != nil {
		return entry, err
	}
	defer body.Close()
	data, err := io.ReadAll(body)
	c.copies.Add(1)
	return c.Put(string(data), append(to.Folder.Path.Names(), to.Name)...), err
}

// TestRenamed renames a folder at the source: nothing of it is sent again.
func TestRenamed(t *testing.T) {
	b := newBench(t)
	for i := range 20 {
		b.source.Put(fmt.Sprint("content ", i), "old", fmt.Sprint(i))
	}
	target := &copying{Memory: b.target}
	b.to = target
	b.run("done")
	want := b.target.Files()
	for i := range 20 {
		b.source.Rename(store.At("old", fmt.Sprint(i)), store.At("new", fmt.Sprint(i)))
		want[fmt.Sprint("/copy/new/", i)] = fmt.Sprint("content ", i)
	}
	_, s := b.run("done")
	b.want(want)
	if target.copies.Load() != 20 || s.Moved != 0 {
		t.Errorf("%d were copied inside, and %d bytes sent", target.copies.Load(), s.Moved)
	}
	if ending := b.ended("new/7", transfer.Done, plan.CauseNone); ending.Verification == "" {
		t.Error("the copy has no verification")
	}
	// What has changed at the target meanwhile is sent.
	b.source.Rename(store.At("new", "7"), store.At("newest", "7"))
	b.target.Put("changed", "copy", "new", "7")
	b.target.Put("changed", "copy", "old", "7")
	b.run("done")
	if got := b.target.Files()["/copy/newest/7"]; got != "content 7" {
		t.Errorf("it became %q", got)
	}
}

// TestAsked holds a run at a conflict, and goes on with what was decided.
func TestAsked(t *testing.T) {
	for decided, want := range map[plan.ConflictRule]string{plan.Source: "ours", plan.KeepTarget: "theirs"} {
		b := newBench(t)
		b.rules.Conflict = plan.AskPerson
		b.source.Put("ours", "conflict")
		b.source.Put("new", "new")
		b.target.Put("theirs", "copy", "conflict")
		if result := b.new().Execute(t.Context()); result.State != "held" || result.Cause != plan.CauseAsk {
			t.Fatalf("%+v, want it held to ask", result)
		}
		b.want(map[string]string{"/copy/conflict": "theirs", "/copy/new": "new"}) // all else is done
		b.rules.Conflict, b.resumed = decided, true
		b.run("done")
		b.want(map[string]string{"/copy/conflict": want, "/copy/new": "new"})
	}
}

func TestNewer(t *testing.T) {
	b := newBench(t)
	b.rules.Conflict = plan.Newer
	b.source.Put("older", "a")
	b.target.Put("older", "copy", "b") // each store counts a second for what is put
	b.target.Put("newer", "copy", "a")
	b.source.Put("something", "c")
	b.source.Put("newer", "b")
	b.run("done")
	b.want(map[string]string{"/copy/a": "newer", "/copy/b": "newer", "/copy/c": "something"})
	b.ended("a", transfer.Skipped, plan.CauseOlder)
}

// TestTemplate makes names of dates, and tells apart what would get one name.
func TestTemplate(t *testing.T) {
	b := newBench(t)
	b.rules.As = "{date:%Y}/{name}"
	b.source.Put("one", "a", "x.txt")
	b.source.Put("two", "b", "x.txt")
	b.source.Put("three", "b", "y")
	b.run("done")
	for _, item := range b.records.items {
		if item.Cause != plan.CauseNone {
			t.Errorf("%q is %s by the template that was asked for", item.Key, item.Cause)
		}
	}
	got := b.target.Files()
	year := ""
	for name := range got {
		year = name[len("/copy/"):][:4]
	}
	if want := (map[string]string{"/copy/" + year + "/x.txt": "one", "/copy/" + year + "/y": "three"}); len(got) != 3 ||
		got["/copy/"+year+"/x.txt"] != "one" || got["/copy/"+year+"/y"] != "three" {
		t.Errorf("%v, want %v and another", got, want)
	}
	if _, s := b.run("done"); s.Items != 0 || s.Unchanged != 3 {
		t.Errorf("the second run had %d items, and found %d in sync", s.Items, s.Unchanged)
	}
	if again := b.target.Files(); !maps.Equal(got, again) {
		t.Errorf("the second run left %v", again)
	}
}

// TestOnlyChanged brings each pass into a folder of its own: what has changed since
// the one before.
func TestOnlyChanged(t *testing.T) {
	b := newBench(t)
	b.rules.As, b.rules.OnlyChanged = "{run:%Y-%m-%d}/{folder}/{name}", true
	if err := b.rules.Check(); err != nil {
		t.Fatal(err)
	}
	b.began = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	b.source.Put("one", "a", "x")
	b.source.Put("two", "a", "y")
	b.run("done")
	want := map[string]string{"/copy/2026-11-01/a/x": "one", "/copy/2026-11-01/a/y": "two"}
	b.want(want)
	for day, change := range []string{"changed", "changed again"} {
		b.began = b.began.AddDate(0, 0, 1)
		b.source.Put(change, "a", "y")
		b.source.Put("new", "new", fmt.Sprint(day))
		if _, s := b.run("done"); s.Unchanged != int64(1+day) || s.Done != 2 {
			t.Errorf("on day %d %d were done, and %d unchanged", day, s.Done, s.Unchanged)
		}
		folder := "/copy/" + b.began.Format(time.DateOnly)
		want[folder+"/a/y"], want[folder+"/new/"+fmt.Sprint(day)] = change, "new"
		b.want(want)
	}
	b.began = b.began.AddDate(0, 0, 1)
	if _, s := b.run("done"); s.Items != 0 || s.Unchanged != 4 {
		t.Errorf("nothing had changed: %+v", s)
	}
	b.rules.OnlyChanged = false // all of it, copied inside where that can be
	if _, s := b.run("done"); s.Done != 4 {
		t.Errorf("a whole pass: %+v", s)
	}
	for _, as := range []string{"", "{date:%Y}/{name}"} {
		if err := (plan.Rules{OnlyChanged: true, As: as}).Check(); err == nil {
			t.Errorf("only what has changed, with the template %q", as)
		}
	}
}

// TestExcluded copies what is not left out.
func TestExcluded(t *testing.T) {
	b := newBench(t)
	b.rules.Filter.Exclude = []string{"*.tmp", "cache/"}
	b.source.Put("1", "cache", "x")
	b.source.Put("2", "a", "y.tmp")
	b.source.Put("3", "a", "z")
	b.source.Put("4", "t", "only.tmp")
	b.run("done")
	b.want(map[string]string{"/copy/a/z": "3"})
	if totals := b.records.totals; totals.Excluded.Items != 2 || totals.FoldersExcluded != 1 {
		t.Errorf("%+v were left out, and %d folders", totals.Excluded, totals.FoldersExcluded)
	}
	looked := storetest.NewFaulty(b.source,
		storetest.Fault{Op: storetest.OpList, Name: "cache", Err: store.Errorf(store.ErrRefused, "it was looked into")})
	b.from = looked
	b.run("done")
	if _, err := b.target.Stat(t.Context(), store.At("copy", "t")); store.KindOf(err) != store.ErrNotFound {
		t.Errorf("a folder of which all is left out: %v", err)
	}
}

// TestBandwidth moves a mebibyte at a fixed bandwidth, which is raised in the middle.
func TestBandwidth(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		for i := range 16 {
			b.source.Put(string(make([]byte, 64<<10)), fmt.Sprint(i))
		}
		limiter := &bandwidth.Limiter{}
		limiter.Set(bandwidth.Rule{Up: 64 << 10})
		run := transfer.New(transfer.Options{ID: "limited", Routes: []transfer.Route{b.route()}, Records: b.records, Lanes: 4,
			HeadStart: time.Hour, Bandwidth: limiter})
		begun := time.Now()
		go func() {
			time.Sleep(8 * time.Second)
			limiter.Set(bandwidth.Rule{Down: 256 << 10})
		}()
		if result := run.Execute(t.Context()); result.State != "done" {
			t.Fatalf("%+v", result)
		}
		if took := time.Since(begun).Seconds(); took < 9 || took > 11.5 {
			t.Errorf("it took %.1f s, want 8 s for the first half and 2 for the other", took)
		}
	})
}

// TestNoSpaceIsWaitedFor fills the target in the middle: nothing has failed, and the
// run goes on when there is space again.
func TestNoSpaceIsWaitedFor(t *testing.T) {
	b := newBench(t)
	want := map[string]string{}
	for i := range 30 {
		name := fmt.Sprint("file ", i)
		b.source.Put(name, name)
		want["/copy/"+name] = name
	}
	b.target.MaxBytes = 60
	run := b.new()
	if result := run.Execute(t.Context()); result.State != "held" || result.Cause != plan.CauseNoSpace {
		t.Fatalf("%+v, want it held for space", result)
	}
	if s := run.Snapshot(); s.Failed != 0 {
		t.Errorf("%d items failed", s.Failed)
	}
	b.target.MaxBytes = 0
	b.resumed = true
	b.run("done")
	b.want(want)
}

// TestNoSpaceFromTheStart has no room at the target for the small file by which a mirror looks
// whether both ends are one storage. A source that is full is no hindrance.
func TestNoSpaceFromTheStart(t *testing.T) {
	b := newBench(t)
	b.rules.Type = plan.Mirror
	b.source.Put("content", "file")
	b.target.Put("full", "copy", "there")
	b.source.MaxBytes, b.target.MaxBytes = 7, 4
	if result := b.new().Execute(t.Context()); result.State != "held" || result.Cause != plan.CauseNoSpace {
		t.Fatalf("%+v, want it held for space", result)
	}
	b.target.MaxBytes = 0
	b.resumed = true
	b.run("done")
	b.want(map[string]string{"/copy/file": "content"})
}

// TestWithin gives up on an item after a time, whatever tries are left.
func TestWithin(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t)
		b.source.Put("x", "x")
		b.to = storetest.NewFaulty(b.target, storetest.Fault{Op: storetest.OpWrite, Err: store.Errorf(store.ErrTryAgain, "down")})
		run := transfer.New(transfer.Options{
			ID: "within", Routes: []transfer.Route{b.route()}, Records: b.records, HeadStart: time.Hour,
			Rules: plan.Rules{Tries: 100, Within: 10 * time.Minute},
		})
		begun := time.Now()
		run.Execute(t.Context())
		if took := time.Since(begun); took < 8*time.Minute || took > 11*time.Minute {
			t.Errorf("it was tried for %v", took)
		}
	})
}

func TestVerifyLevels(t *testing.T) {
	for _, level := range []store.VerifyLevel{store.VerifyByHash, store.VerifyBySize, store.VerifyByReading} {
		b := newBench(t)
		b.rules.Verification = level
		b.source.Put("content", "x")
		b.run("done")
		if ending := b.ended("x", transfer.Done, plan.CauseNone); ending.Verification == "" {
			t.Errorf("%q: no verification", level)
		} else {
			t.Logf("%q: %s", level, ending.Verification)
		}
	}
}

// TestListingBreaksOff has the source's listing break off several times in the middle
// of a plan: nothing is queued twice, nothing is missed, and nothing is counted twice.
func TestListingBreaksOff(t *testing.T) {
	for name, prepare := range map[string]func(*bench){
		"in order": func(*bench) {},
		"unsorted": func(b *bench) { b.source.Unsorted = true },
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			prepare(b)
			want := map[string]string{}
			for i := range 40 {
				folder, name := fmt.Sprintf("folder %02d", i/4), fmt.Sprint(i)
				b.source.Put(name, folder, name)
				want["/copy/"+folder+"/"+name] = name
				if i == 20 {
					b.run("done")
				}
			}
			from := storetest.NewFaulty(b.source)
			from.Add(storetest.Fault{Op: storetest.OpList, Name: "folder 07", Times: map[bool]int{false: 4, true: 12}[b.source.Unsorted],
				Err: store.Errorf(store.ErrTryAgain, "reset")})
			b.from = from
			_, s := b.run("done")
			b.want(want)
			if s.Items != 19 || s.Unchanged != 21 || s.Done != 19 {
				t.Errorf("%+v; want 19 items and 21 in sync", s)
			}
		})
	}
}
