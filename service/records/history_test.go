package records_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/compare"
	"deftheron/core/files"
	"deftheron/core/history"
	"deftheron/core/listing"
	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/run"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
	"deftheron/core/view"
	"deftheron/service/records"
)

var (
	historySeed    = flag.Uint64("history-seed", 0, "the first seed of the model of history")
	historyLasting = flag.Duration("history-lasting", 0, "go on with further seeds for so long")
)

// past is a mirror with history, while people work at its source: what its target was after
// each run has to come back for as long as it is retained.
type past struct {
	t       *testing.T
	seed    uint64
	random  *rand.Rand
	db      *records.DB
	source  *storetest.Memory
	target  *storetest.Account
	account string // its id
	runs    int
	states  []state
	locked  map[history.Content]string
	writes  int
	log     []string
}

type state struct {
	at    time.Time
	files map[string]string
}

func newPast(t *testing.T, db *records.DB, seed uint64) *past {
	random := rand.New(rand.NewPCG(seed, 11))
	account := &storetest.Account{Memory: storetest.NewMemory(), Moves: random.IntN(2) == 0, Copies: random.IntN(2) == 0}
	account.Keeping = random.IntN(2) == 0
	account.NoHashes = random.IntN(3) == 0
	account.Versioned = random.IntN(2) == 0
	p := &past{t: t, seed: seed, random: random, db: db, source: storetest.NewMemory(), target: account, account: fmt.Sprint("id", seed),
		locked: map[history.Content]string{}}
	p.source.Folder("in")
	row := records.Account{ID: p.account, Name: p.name(), Provider: "memory", Options: map[string]string{}, CreatedAt: time.Now()}
	if err := db.AddAccount(t.Context(), &row); err != nil {
		t.Fatal(err)
	}
	p.note("moves %v, copies %v, keeps %v, versions %v", account.Moves, account.Copies, account.Keeping, account.Versioned)
	return p
}

func (p *past) name() string { return fmt.Sprint("target", p.seed) }

func (p *past) note(format string, args ...any) { p.log = append(p.log, fmt.Sprintf(format, args...)) }

func (p *past) fail(format string, args ...any) {
	p.t.Helper()
	if known, err := p.db.History(p.t.Context(), p.account); err == nil {
		rows, _ := known.All(p.t.Context())
		for _, row := range rows {
			p.note("%s %s was %s, kept %s, to %s, run %s", row.At.Format(time.StampNano), row.Path, row.How, row.Content(), row.To, row.Run)
		}
	}
	p.t.Fatalf("seed %d: %s\n%s", p.seed, fmt.Sprintf(format, args...), strings.Join(p.log, "\n"))
}

// work is one thing that somebody does at the source.
func (p *past) work() {
	names := slices.Sorted(maps.Keys(p.source.Files()))
	some := func() []string { return strings.Split(strings.TrimPrefix(names[p.random.IntN(len(names))], "/"), "/") }
	p.writes++
	content := strings.Repeat("x", p.random.IntN(3)) + fmt.Sprint("content ", p.writes)
	switch action := p.random.IntN(6); {
	case action < 2 || len(names) == 0:
		place := [][]string{{"in", "a"}, {"in", "b.txt"}, {"in", "sub", "c"}, {"in", "sub", "deep", "d"}, {"in", "e"},
			{"in", "sub2", "f"}}[p.random.IntN(6)]
		p.source.Put(content, place...)
		p.note("write %v", place)
	case action == 2:
		place := some()
		p.source.Put(content, place...)
		p.note("overwrite %v", place)
	case action == 3:
		place := some()
		p.remove(place)
		p.note("delete %v", place)
	default:
		from, to := some(), []string{"in", "renamed", fmt.Sprint("g", p.random.IntN(3))}
		old := p.source.Files()["/"+strings.Join(from, "/")]
		entry, err := p.source.Stat(p.t.Context(), store.At(from...))
		if err != nil {
			return
		}
		p.remove(from)
		p.source.PutAt(old, entry.Modified, to...)
		p.note("rename %v to %v", from, to)
	}
}

func (p *past) remove(place []string) {
	if _, err := p.source.Remove(p.t.Context(), store.At(place...).As(store.KindFile), ""); err != nil {
		p.fail("%v", err)
	}
}

// held are the files of the target that are not ours.
func held(s *storetest.Account) map[string]string {
	files := s.Files()
	maps.DeleteFunc(files, func(address, _ string) bool { return strings.HasPrefix(address, "/.heron/") })
	return files
}

func (p *past) history() records.History {
	known, err := p.db.History(p.t.Context(), p.account)
	if err != nil {
		p.fail("%v", err)
	}
	return known
}

func (p *past) asOf(at time.Time) store.Store {
	return view.AsOf(p.target, history.NewPast(p.history(), at))
}

// unreliable is the target, of which some answers are lost.
func (p *past) unreliable() store.Store {
	faulty := storetest.NewFaulty(p.target)
	for range p.random.IntN(3) {
		op := []storetest.Op{storetest.OpMove, storetest.OpCopy, storetest.OpWrite, storetest.OpRemove}[p.random.IntN(4)]
		fault := storetest.Fault{Op: op, Times: 1, After: p.random.IntN(2) == 0, Err: store.Errorf(store.ErrTryAgain, "the connection broke off")}
		if fault.After {
			fault.Err = store.Errorf(store.ErrOutcomeUnknown, "the answer was lost")
		}
		faulty.Add(fault)
		p.note("a fault of %s, carried out %v", op, fault.After)
	}
	return faulty
}

// execute carries out a run, which may be killed and go on.
func (p *past) execute(from store.Store, account, scope string, rules plan.Rules) {
	p.runs++
	id := fmt.Sprintf("run%dx%d", p.seed, p.runs)
	routes := []records.Route{{From: "/source/in", To: "/" + p.name() + "/in", Scope: scope}}
	row := records.Run{ID: id, Job: "job-" + id, State: "queued", Routes: routes, CreatedAt: time.Now()}
	job := records.Job{ID: id, Name: "job-" + id, Type: "mirror", Routes: routes, CreatedAt: time.Now()}
	if err := p.db.AddRun(p.t.Context(), &job, &row); err != nil {
		p.fail("%v", err)
	}
	root := store.At("in")
	options := transfer.Options{
		ID: id, Records: p.db, Lanes: 3, Retry: retry.Policy{First: 1}, Began: row.CreatedAt, Job: job.Name, Rules: rules,
		Routes: []transfer.Route{{Scope: scope,
			Source: transfer.Side{Account: account, Address: store.MakeAddress(account, root), Store: from, Root: root},
			Target: transfer.Side{Account: p.name(), Address: store.MakeAddress(p.name(), root), Store: p.unreliable(), Root: root}}},
	}
	for kills := p.random.IntN(3); kills > 0; kills-- {
		ctx, kill := context.WithCancel(p.t.Context())
		mortal := options
		mortal.Records = &mortal1{DB: p.db, kill: kill, left: p.random.IntN(4)}
		result := transfer.New(mortal).Execute(ctx)
		kill()
		p.note("run %s, killed: %q", id, result.State)
		if result.State != "" {
			p.checkEnd(result, id)
			return
		}
		options.Resumed = true
	}
	result := transfer.New(options).Execute(p.t.Context())
	p.note("run %s: %q", id, result.State)
	p.checkEnd(result, id)
}

func (p *past) checkEnd(result transfer.Result, id string) {
	row0, _ := p.db.Run(p.t.Context(), id)
	items0, _, _ := p.db.FindItems(p.t.Context(), row0.Number, records.ItemFilter{}, 0, 10)
	for _, item := range items0 {
		p.note("    %s %s: %s %s %s %s", item.Action, item.Key, item.State, item.Cause, item.Why, item.Ending.Verification)
	}
	if result.State != run.Done {
		row, _ := p.db.Run(p.t.Context(), id)
		items, _, _ := p.db.FindItems(p.t.Context(), row.Number, records.ItemFilter{State: "failed"}, 0, 10)
		for _, item := range items {
			p.note("%s %s: %s %s", item.Action, item.Key, item.Cause, item.Why)
		}
		p.fail("run %s ended as %+v", id, result)
	}
}

// mortal1 is a database whose process ends when it has finished some more items, before that
// is written down.
type mortal1 struct {
	*records.DB
	kill context.CancelFunc
	left int
}

func (m *mortal1) Finish(ctx context.Context, run string, scopes []string, endings []transfer.Ending) error {
	if m.left--; m.left < 0 {
		m.kill()
		return errors.New("the process has ended")
	}
	return m.DB.Finish(ctx, run, scopes, endings)
}

func (p *past) mirror() {
	rules := plan.Rules{Type: plan.Mirror, Conflict: plan.Source}
	if p.random.IntN(4) == 0 {
		rules.Locked = time.Hour
	}
	p.execute(p.source, "source", "scope"+fmt.Sprint(p.seed), rules)
	p.remember()
}

// restore brings a state back exactly.
func (p *past) restore() {
	if len(p.states) == 0 {
		return
	}
	then := p.states[p.random.IntN(len(p.states))]
	p.note("restore as of %v", then.at.Format(time.StampNano))
	rules := plan.Rules{Type: plan.Mirror, Conflict: plan.Source, At: then.at, Documents: plan.NoExports(), Tracked: true}
	p.execute(p.asOf(then.at), p.name(), fmt.Sprint("restore", p.seed, p.runs), rules)
	if got := held(p.target); !maps.Equal(got, then.files) {
		p.fail("restored are %v\nwant %v", got, then.files)
	}
	p.remember()
}

func (p *past) remember() {
	time.Sleep(time.Microsecond) // changes are told apart by their times
	p.states = append(p.states, state{time.Now(), held(p.target)})
	rows := p.rows()
	for _, row := range rows {
		if row.IsLocked(time.Now()) {
			p.locked[row.Content()] = p.read(row.Content())
		}
	}
}

// rows are all changes that the records have, in the order of numbers.
func (p *past) rows() []records.HistoryRow {
	rows, err := p.history().All(p.t.Context())
	if err != nil {
		p.fail("%v", err)
	}
	return rows
}

// thin removes what is older than one of the states.
func (p *past) thin() {
	if len(p.states) < 3 {
		return
	}
	n := p.random.IntN(len(p.states) - 1)
	now := time.Now()
	retention := history.Retention{All: now.Sub(p.states[n].at)}
	p.note("thin what is older than %v", p.states[n].at.Format(time.StampNano))
	known := p.history()
	if _, err := known.Doom(p.t.Context(), false, func(changes []history.Change,
		wanted func(*history.Change) (bool, error)) ([]history.Decision, error) {
		return retention.Thin(changes, now, wanted)
	}); err != nil {
		p.fail("%v", err)
	}
	if p.random.IntN(2) == 0 { // the process ends in the middle
		ctx, end := context.WithCancel(p.t.Context())
		dying := storetest.NewFaulty(p.target)
		left := p.random.IntN(3)
		dying.Add(storetest.Fault{Op: storetest.OpRemove, Times: 1, Do: func() {
			if left--; left < 0 {
				end()
			}
		}, Err: store.Errorf(store.ErrTryAgain, "the process has ended"), After: p.random.IntN(2) == 0})
		_ = files.Sweep(ctx, dying, known)
		end()
	}
	if err := files.Sweep(p.t.Context(), p.target, known); err != nil {
		p.fail("%v", err)
	}
	p.states = p.states[n:]
}

// check looks at each state that is retained, and holds the manifests to the records.
func (p *past) check() {
	for _, then := range p.states {
		if got := contents(p, p.asOf(then.at)); !maps.Equal(got, then.files) {
			p.fail("as of %v there were %v\nwant %v", then.at.Format(time.StampNano), got, then.files)
		}
	}
	for kept, content := range p.locked {
		if got := p.read(kept); got != content {
			p.fail("the locked %s holds %q, want %q", kept, got, content)
		}
	}
	p.checkManifests()
}

// read reads what is kept.
func (p *past) read(kept history.Content) string {
	body, err := kept.Open(p.t.Context(), p.target, store.Reading{})
	if err != nil {
		p.fail("%s: %v", kept, err)
	}
	defer body.Close()
	text, err := io.ReadAll(body)
	if err != nil {
		p.fail("%s: %v", kept, err)
	}
	return string(text)
}

func contents(p *past, s store.Store) map[string]string {
	got := map[string]string{}
	for listed, err := range listing.Flat(p.t.Context(), s, store.Folder{}) {
		if err != nil {
			p.fail("%v", err)
		}
		if listed.Kind != store.KindFile {
			continue
		}
		body, err := s.Open(p.t.Context(), store.Reading{Place: listed.Key().Ref("", store.KindFile), Revision: listed.Revision})
		if err != nil {
			p.fail("%s: %v", listed.Key(), err)
		}
		text, err := io.ReadAll(body)
		if err = errors.Join(err, body.Close()); err != nil {
			p.fail("%s: %v", listed.Key(), err)
		}
		got["/"+string(listed.Key())] = string(text)
	}
	return got
}

func (p *past) checkManifests() {
	ctx := p.t.Context()
	if _, err := history.WriteManifests(ctx, p.target, p.name(), "", p.db); err != nil {
		p.fail("%v", err)
	}
	told := map[string]int{}
	text := func(c history.Change) string {
		return fmt.Sprint(c.Path, c.How, c.At.UnixNano(), c.Since.UnixNano(), c.Size, c.Hash, c.Kept, c.Version, c.To, c.Locked.Unix())
	}
	for _, row := range p.rows() {
		told[text(row.Change)]++
	}
	parts, err := history.Parts(ctx, p.target)
	if err != nil {
		p.fail("%v", err)
	}
	kept := map[store.Key]bool{}
	for _, part := range parts {
		damaged, err := history.ReadPart(ctx, p.target, part, func(manifest int64, c history.Change) error {
			if manifest > 0 {
				told[text(c)]--
				kept[c.Kept] = true
			} else if !kept[c.Kept] {
				p.fail("%s is in history, and in no manifest", c.Kept)
			}
			return nil
		})
		if err != nil || len(damaged) > 0 {
			p.fail("%v, %v", err, damaged)
		}
	}
	for one, n := range told {
		if n != 0 {
			p.fail("the records have %+d more than the manifests of %s", n, one)
		}
	}
}

// TestPast keeps versions of random work, and has any retained state come back.
func TestPast(t *testing.T) {
	db := open(t, t.TempDir())
	ends := time.Now().Add(*historyLasting)
	for seed := *historySeed; seed < *historySeed+25 || time.Now().Before(ends); seed++ {
		p := newPast(t, db, seed)
		for range 12 {
			switch p.random.IntN(8) {
			case 0:
				p.restore()
			case 1:
				p.thin()
			default:
				for range p.random.IntN(6) {
					p.work()
				}
				p.mirror()
			}
			p.check()
		}
	}
}

// TestClockJumpsBack keeps changes in their order though the clock of the machine jumps back.
func TestClockJumpsBack(t *testing.T) {
	db := open(t, t.TempDir())
	p := newPast(t, db, 1)
	addRun(t, db, "run1")
	finish := func(at time.Time, how history.How) {
		t.Helper()
		change := history.Change{Account: p.name(), Path: "in/a", At: at, How: how, Run: "run1"}
		if change.HasContent() {
			change.Kept = store.Key(fmt.Sprint(string(store.HistoryFolder), "part/files/", at.UnixNano()))
		}
		if err := db.Finish(t.Context(), "run1", []string{"scope"}, []transfer.Ending{{Changes: []history.Change{change}}}); err != nil {
			t.Fatal(err)
		}
	}
	now := time.Now()
	finish(now, history.Created)
	finish(now.Add(time.Second), history.Overwritten)
	finish(now.Add(-time.Hour), history.Deleted) // the clock has jumped back
	rows := p.rows()
	if len(rows) != 3 || !rows[2].At.After(rows[1].At) || !rows[2].Since.Equal(rows[1].At) {
		t.Errorf("the changes are %+v", rows)
	}
	finish(now.Add(2*time.Second), history.Created)
	if rows = p.rows(); rows[3].At.Before(rows[2].At) {
		t.Errorf("after the clock was set right: %v, before %v", rows[3].At, rows[2].At)
	}
}

// TestForgetScope drops the pairs of one scope, and of no other.
func TestForgetScope(t *testing.T) {
	db := open(t, t.TempDir())
	addRun(t, db, "run1")
	scopes := []string{"scope", "other"}
	var endings []transfer.Ending
	for route := range scopes {
		for i := range 7 {
			endings = append(endings, transfer.Ending{Route: route, Pair: &compare.Pair{Key: store.Key(fmt.Sprint("f", i)), Run: "run1"}})
		}
	}
	if err := db.Finish(t.Context(), "run1", scopes, endings); err != nil {
		t.Fatal(err)
	}
	if err := db.ForgetScope(t.Context(), "scope"); err != nil {
		t.Fatal(err)
	}
	for scope, want := range map[string]int64{"scope": 0, "other": 7} {
		known, err := db.Known(t.Context(), scope)
		pair, failed := db.Pair(t.Context(), scope, "f3")
		if err != nil || failed != nil || known != want || (pair != nil) != (want > 0) {
			t.Errorf("of %s there are %d pairs, and one is %v: %v, %v", scope, known, pair, err, failed)
		}
	}
}
