package records_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

func open(t *testing.T, dir string) *records.DB {
	t.Helper()
	db, err := records.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

func addRun(t *testing.T, db *records.DB, id string) records.Run {
	t.Helper()
	routes := []records.Route{{From: "/a", To: "/b", Scope: "scope"}}
	run := records.Run{ID: id, Job: "job-" + id, State: "queued", Routes: routes, CreatedAt: time.Now()}
	job := records.Job{ID: id, Name: "job-" + id, Type: "copy", Routes: routes, CreatedAt: time.Now()}
	if err := db.AddRun(t.Context(), &job, &run); err != nil {
		t.Fatal(err)
	}
	return run
}

func item(seq int64, key string, action plan.Action) transfer.Item {
	return transfer.Item{
		Seq: seq, Key: store.Key(key), Kind: store.KindFile, Action: action, Size: 10, State: transfer.Waiting,
		Source: compare.Remembered{Revision: "s", Size: 10, Modified: time.Unix(1, 5)},
	}
}

// TestQueue follows items from the queue to their end, over a new opening of
// the database in between.
func TestQueue(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "with #, ? and %")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	db, ctx := open(t, dir), t.Context()
	run := addRun(t, db, "run1")
	skipped := item(5, "link", plan.Skip)
	skipped.State, skipped.Cause = transfer.Skipped, plan.CauseNotAFile
	items := []transfer.Item{item(1, "b", plan.Create), item(2, "a\x00\xffb", plan.Replace), item(3, "", plan.Create),
		item(4, "z", plan.Create), skipped}
	if err := db.Enqueue(ctx, "run1", items); err != nil {
		t.Fatal(err)
	}
	if err := db.Enqueue(ctx, "nobody", items); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("items of a run that is not there: %v", err)
	}
	claimed, err := db.Claim(ctx, "run1", plan.PhaseCreate, 0, 2)
	if err != nil || len(claimed) != 2 || claimed[0].Key != "b" || claimed[1].Seq != 3 || !claimed[0].Source.Modified.Equal(time.Unix(1, 5)) ||
		claimed[0].Source.Size != 10 {
		t.Errorf("claimed %+v, %v", claimed, err)
	}
	if writes, err := db.Claim(ctx, "run1", plan.PhaseWrite, 0, 10); err != nil || len(writes) != 0 {
		t.Errorf("claimed of those that overwrite something, before the pass was judged: %+v, %v", writes, err)
	}
	if err := db.Judge(ctx, "run1", 5, nil, nil); err != nil {
		t.Fatal(err)
	}
	if writes, err := db.Claim(ctx, "run1", plan.PhaseWrite, 0, 10); err != nil || len(writes) != 1 || writes[0].Key != "a\x00\xffb" {
		t.Errorf("claimed of those that overwrite something: %+v, %v", writes, err)
	}
	pair := compare.Pair{Key: "b", Source: compare.Remembered{Revision: "s"},
		Target: compare.Remembered{Revision: "t", Size: 10, Modified: time.Unix(2, 0)}, Run: "run1"}
	ended := transfer.Ending{Seq: 1, State: transfer.Done, Verification: "crc64nvme=1", Moved: 10, Attempts: 1, Ended: time.Now(), Pair: &pair}
	only := compare.Pair{Key: "only", Run: "run1", Kept: true}
	if err := db.Finish(ctx, "run1", []string{"scope"}, []transfer.Ending{ended, {Pair: &only}}); err != nil {
		t.Fatal(err)
	}
	if err := db.Planned(ctx, "run1", plan.Totals{Unchanged: plan.Count{Items: 7}}); err != nil {
		t.Fatal(err)
	}
	db.Close()
	db = open(t, dir)
	tally, err := db.Tally(ctx, "run1")
	if err != nil || !tally.Planned || tally.Items != 5 || tally.Done != 1 || tally.Skipped != 1 || tally.Moved != 10 || tally.LastSeq != 5 ||
		tally.Unchanged != 7 || tally.Bytes != 40 {
		t.Errorf("%+v, %v", tally, err)
	}
	var keys []string
	for pair, err := range db.Pairs(ctx, "scope") {
		if err != nil {
			t.Fatal(err)
		}
		keys = append(keys, fmt.Sprint(string(pair.Key), pair.Kept, pair.Target.Size))
	}
	if fmt.Sprint(keys) != "[bfalse 10 onlytrue 0]" {
		t.Errorf("pairs %v", keys)
	}
	if n, err := db.EndRest(ctx, "run1", transfer.Failed, plan.CauseStopped); err != nil || n != 3 {
		t.Errorf("ended %d, %v", n, err)
	}
	failed, _, err := db.FindItems(ctx, run.Number, records.ItemFilter{State: transfer.Failed}, 0, 10)
	if err != nil || len(failed) != 3 || failed[0].Cause != plan.CauseStopped || failed[0].Ending.Ended.IsZero() {
		t.Errorf("failed %+v, %v", failed, err)
	}
	if err := db.Forget(ctx, "run1"); err != nil {
		t.Fatal(err)
	}
	if tally, _ := db.Tally(ctx, "run1"); tally.Items != 1 || tally.Done != 1 {
		t.Errorf("after forgetting: %+v", tally)
	}
}

func TestUploads(t *testing.T) {
	db, ctx := open(t, t.TempDir()), t.Context()
	addRun(t, db, "run1")
	if err := db.Enqueue(ctx, "run1", []transfer.Item{item(1, "large", plan.Create), item(2, "other", plan.Create)}); err != nil {
		t.Fatal(err)
	}
	if _, ok, err := db.LoadUpload(ctx, "run1", 1); ok || err != nil {
		t.Errorf("an upload is there: %v, %v", ok, err)
	}
	if err := db.SaveUpload(ctx, "run1", 1, transfer.Upload{Revision: "s", PartSize: 5}); err != nil {
		t.Fatal(err)
	}
	if err := db.SaveUpload(ctx, "run1", 1, transfer.Upload{ID: "u1", Revision: "s", PartSize: 5}); err != nil {
		t.Fatal(err)
	}
	for _, number := range []int{2, 1, 2} {
		if err := db.SavePart(ctx, "run1", 1, store.Part{Number: number, Size: 5, Tag: "t", Hash: "h"}); err != nil {
			t.Fatal(err)
		}
	}
	upload, ok, err := db.LoadUpload(ctx, "run1", 1)
	if err != nil || !ok || upload.ID != "u1" || len(upload.Parts) != 2 ||
		upload.Parts[0] != (store.Part{Number: 1, Size: 5, Tag: "t", Hash: "h"}) {
		t.Errorf("%+v, %v, %v", upload, ok, err)
	}
	pending, err := db.Uploads(ctx, "run1")
	if err != nil || len(pending) != 1 || pending[0].Upload.ID != "u1" || pending[0].Item.Key != "large" {
		t.Errorf("%+v, %v", pending, err)
	}
	if err := db.DropUpload(ctx, "run1", 1); err != nil {
		t.Fatal(err)
	}
	if pending, _ := db.Uploads(ctx, "run1"); len(pending) != 0 {
		t.Errorf("%+v is left", pending)
	}
}

// TestPairsInPages reads more pairs than a page, in the order of bytes, while
// others are written.
func TestPairsInPages(t *testing.T) {
	db, ctx := open(t, t.TempDir()), t.Context()
	addRun(t, db, "run1")
	var endings []transfer.Ending
	for i := range 4500 {
		endings = append(endings, transfer.Ending{Pair: &compare.Pair{Key: store.Key(fmt.Sprintf("%05d", i*7919%4500))}})
	}
	if err := db.Finish(ctx, "run1", []string{"scope"}, endings); err != nil {
		t.Fatal(err)
	}
	n := 0
	for pair, err := range db.Pairs(ctx, "scope") {
		if err != nil || string(pair.Key) != fmt.Sprintf("%05d", n) {
			t.Fatalf("the pair number %d is %q, %v", n, pair.Key, err)
		}
		if n++; n%1000 == 0 {
			if err := db.Finish(ctx, "run1", []string{"scope"}, endings[:1]); err != nil {
				t.Fatal(err)
			}
		}
	}
	if n != 4500 {
		t.Errorf("%d pairs, want 4500", n)
	}
	for range db.Pairs(ctx, "another") {
		t.Error("another scope has pairs")
	}
}

// TestUnlinkingKeepsPairs keeps what is remembered of copies through an account that was
// unlinked, for so long, and drops it then.
func TestUnlinkingKeepsPairs(t *testing.T) {
	db, ctx := open(t, t.TempDir()), t.Context()
	addRun(t, db, "run1")
	for _, id := range []string{"id-one", "id-two"} {
		account := records.Account{ID: id, Name: id, Options: map[string]string{}, CreatedAt: time.Now()}
		if err := db.AddAccount(ctx, &account); err != nil {
			t.Fatal(err)
		}
	}
	scopes := []string{"id-one/a\nid-two/b", "id-two/a\nid-two/b"}
	endings := []transfer.Ending{{Pair: &compare.Pair{Key: "x"}}, {Route: 1, Pair: &compare.Pair{Key: "y"}}}
	if err := db.Finish(ctx, "run1", scopes, endings); err != nil {
		t.Fatal(err)
	}
	pairs := func(want ...int) {
		t.Helper()
		for i, want := range want {
			n := 0
			for range db.Pairs(ctx, scopes[i]) {
				n++
			}
			if n != want {
				t.Errorf("%d pairs of %q are left, want %d", n, scopes[i], want)
			}
		}
	}
	if err := db.RemoveAccount(ctx, records.Account{ID: "id-one"}); err != nil {
		t.Fatal(err)
	}
	ended := records.LinkEvent{Account: "id-one", Name: "one", At: time.Now(), What: records.Unlinked, Mark: "mark of one"}
	if err := db.AddLinkEvent(ctx, &ended); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Account(ctx, "id-one"); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("the account is still there: %v", err)
	}
	if id, err := db.EndedAt(ctx, "mark of one"); err != nil || id != "id-one" {
		t.Errorf("the marked place was linked as %q, %v", id, err)
	}
	for _, before := range []time.Duration{-time.Hour, time.Hour} {
		pairs(1, 1)
		if err := db.ForgetEnded(ctx, time.Now().Add(before)); err != nil {
			t.Fatal(err)
		}
	}
	pairs(0, 1)
}

func TestAccountsAndRuns(t *testing.T) {
	db, ctx := open(t, t.TempDir()), t.Context()
	account := records.Account{ID: "1", Name: "desk", Provider: "folder", Options: map[string]string{"path": "/x"}, Secret: []byte("sealed"),
		CreatedAt: time.Now()}
	if err := db.AddAccount(ctx, &account); err != nil {
		t.Fatal(err)
	}
	twin := records.Account{ID: "2", Name: "desk", Provider: "folder", Options: map[string]string{}, CreatedAt: time.Now()}
	if err := db.AddAccount(ctx, &twin); !errors.Is(err, records.ErrTaken) {
		t.Errorf("a name that is taken: %v", err)
	}
	for _, c := range []struct {
		old  string
		want bool
	}{{"other", false}, {"sealed", true}, {"sealed", false}} {
		if swapped, err := db.SwapSecret(ctx, "1", []byte(c.old), []byte("new")); err != nil || swapped != c.want {
			t.Errorf("swapping %q: %v, %v", c.old, swapped, err)
		}
	}
	if got, err := db.Account(ctx, "desk"); err != nil || got.Options["path"] != "/x" || string(got.Secret) != "new" {
		t.Errorf("%+v, %v", got, err)
	}
	for i := range 5 {
		addRun(t, db, fmt.Sprint("run", i))
	}
	page, _, err := db.FindRuns(ctx, records.RunFilter{}, 0, 2)
	if err != nil || len(page) != 2 || page[0].ID != "run4" {
		t.Fatalf("%+v, %v", page, err)
	}
	now := time.Now()
	page[0].State, page[0].EndedAt = "done", &now
	if err := db.SaveRun(ctx, page[0], "state", "ended_at"); err != nil {
		t.Fatal(err)
	}
	if rest, err := db.OpenRuns(ctx); err != nil || len(rest) != 4 || rest[0].ID != "run0" {
		t.Errorf("open runs %+v, %v", rest, err)
	}
	if _, err := db.Run(ctx, "nothing"); !errors.Is(err, records.ErrNotFound) {
		t.Errorf("a run that is not there: %v", err)
	}
}

func TestLargest(t *testing.T) {
	db, ctx := open(t, t.TempDir()), t.Context()
	addRun(t, db, "run1")
	var items []transfer.Item
	for i, size := range []int64{1, transfer.Large, transfer.Large - 1, 5 * transfer.Large, transfer.Large} {
		one := item(int64(i+1), fmt.Sprint(i), plan.Create)
		one.Size = size
		items = append(items, one)
	}
	items[4].Action = plan.Replace
	if err := db.Enqueue(ctx, "run1", items); err != nil {
		t.Fatal(err)
	}
	if largest, err := db.Largest(ctx, "run1", plan.PhaseCreate, 10); err != nil || len(largest) != 2 || largest[0].Seq != 4 ||
		largest[1].Seq != 2 {
		t.Errorf("the largest: %+v, %v", largest, err)
	}
}

// TestKnownIsKept holds the number of known files that is kept with a scope against what
// its pairs are, after random endings, and over a new opening.
func TestKnownIsKept(t *testing.T) {
	dir := t.TempDir()
	db := open(t, dir)
	addRun(t, db, "x")
	random := rand.New(rand.NewPCG(1, 2))
	scopes := []string{"one", "other"}
	for range 60 {
		var endings []transfer.Ending
		for range random.IntN(20) {
			ending := transfer.Ending{Route: random.IntN(2)}
			key := store.Key(fmt.Sprint(random.IntN(30)))
			if random.IntN(5) == 0 {
				key += "/"
			}
			if random.IntN(3) == 0 {
				ending.Forget = []store.Key{key}
			} else {
				ending.Pair = &compare.Pair{Key: key, Kept: random.IntN(4) == 0, Verification: fmt.Sprint("hash ", random.IntN(5))}
			}
			endings = append(endings, ending)
		}
		if err := db.Finish(t.Context(), "x", scopes, endings); err != nil {
			t.Fatal(err)
		}
		for _, scope := range scopes {
			want := int64(0)
			for pair, err := range db.Pairs(t.Context(), scope) {
				if err != nil {
					t.Fatal(err)
				}
				if !pair.Kept && !strings.HasSuffix(string(pair.Key), "/") {
					want++
				}
			}
			if known, err := db.Known(t.Context(), scope); err != nil || known != want {
				t.Fatalf("%d are known of %s, %v; want %d", known, scope, err, want)
			}
		}
	}
	lost := []transfer.Loss{{At: time.Unix(1_700_000_000, 0).UTC(), Removed: 2, Replaced: 3}}
	if err := db.Judge(t.Context(), "x", 1, lost, nil); err != nil {
		t.Fatal(err)
	}
	if tally, err := open(t, dir).Tally(t.Context(), "x"); err != nil || !slices.Equal(tally.Lost, lost) {
		t.Errorf("%+v, %v; want what was lost", tally.Lost, err)
	}
}

// TestPlacesOfLargeScope asks for the pairs of one file in a small and in a large scope: it
// must not take longer in the large one, as it is asked for every change and arrival.
func TestPlacesOfLargeScope(t *testing.T) {
	db := open(t, t.TempDir())
	ctx := t.Context()
	run := addRun(t, db, "large").ID
	took := map[int]time.Duration{}
	for _, files := range []int{1_000, 60_000} {
		scope := fmt.Sprint("scope of ", files)
		for first := 0; first < files; first += 1000 {
			var endings []transfer.Ending
			for i := range 1000 {
				pair := compare.Pair{Key: store.Key(fmt.Sprintf("file %07d", first+i)), Source: compare.Remembered{Revision: "r", Size: 1},
					Target: compare.Remembered{Revision: "r", Size: 1}}
				endings = append(endings, transfer.Ending{Pair: &pair})
			}
			if err := db.Finish(ctx, run, []string{scope}, endings); err != nil {
				t.Fatal(err)
			}
		}
		last := store.Path(fmt.Sprintf("file %07d/", files-1))
		fastest := time.Hour
		for range 30 {
			begun, found := time.Now(), 0
			for _, err := range db.PairsUnder(ctx, scope, last) {
				if err != nil {
					t.Fatal(err)
				}
				found++
			}
			if fastest = min(fastest, time.Since(begun)); found != 1 {
				t.Fatalf("%d pairs were found", found)
			}
		}
		took[files] = fastest
	}
	if took[60_000] > 5*took[1_000] {
		t.Errorf("the pairs of one file take %v of 1,000 and %v of 60,000", took[1_000], took[60_000])
	}
}

// TestItemsByState asks for pages of the items in each state, of all phases, in their order.
func TestItemsByState(t *testing.T) {
	db, ctx := open(t, t.TempDir()), t.Context()
	run := addRun(t, db, "states")
	states := []transfer.State{transfer.Waiting, transfer.Done, transfer.Skipped, transfer.Failed}
	actions := []plan.Action{plan.Create, plan.Replace, plan.Remove}
	var items []transfer.Item
	for seq := range int64(120) {
		one := item(seq+1, fmt.Sprintf("file %03d", seq), actions[seq%3])
		one.State = states[seq%4]
		items = append(items, one)
	}
	if err := db.Enqueue(ctx, run.ID, items); err != nil {
		t.Fatal(err)
	}
	for _, state := range append(states, "") {
		want := int64(30)
		if state == "" {
			want = 120
		}
		var found, last int64
		for {
			page, next, err := db.FindItems(ctx, run.Number, records.ItemFilter{State: state}, last, 7)
			if err != nil {
				t.Fatal(err)
			}
			for _, one := range page {
				if one.Seq <= last || state != "" && one.State != state {
					t.Errorf("item %d after %d is %q, asked for were those %q", one.Seq, last, one.State, state)
				}
				last = one.Seq
				found++
			}
			if next == 0 {
				break
			}
		}
		if found != want {
			t.Errorf("%d items are %q, want %d", found, state, want)
		}
	}
}
