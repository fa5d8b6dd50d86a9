package transfer_test

import (
	"context"
	"fmt"
	"io"
	"iter"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
	"deftheron/core/view"
)

// line is a store that is reached over a line which can be cut: each operation is an
// error then.
type line struct {
	store.Store
	cut atomic.Pointer[error]
	// after is how many operations succeed before it is cut by itself; negative: all.
	after atomic.Int64
	asked atomic.Int64 // while it was cut
}

func newLine(s store.Store) *line {
	l := &line{Store: s}
	l.after.Store(-1)
	return l
}

var away = store.Errorf(store.ErrTryAgain, "the connection is refused")

func (l *line) set(err error) {
	if err == nil {
		l.cut.Store(nil)
		return
	}
	l.cut.Store(&err)
}

func (l *line) err() error {
	if n := l.after.Load(); n >= 0 && l.after.Add(-1) < 0 {
		l.after.Store(-1)
		l.set(away)
	}
	if err := l.cut.Load(); err != nil {
		l.asked.Add(1)
		return *err
	}
	return nil
}

func (l *line) Capabilities() store.Capabilities { return store.Capabilities{} }

func (l *line) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	if err := l.err(); err != nil {
		return func(yield func(store.Entry, error) bool) { yield(store.Entry{}, err) }
	}
	return l.Store.List(ctx, folder)
}

func (l *line) Stat(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if err := l.err(); err != nil {
		return store.Entry{}, err
	}
	return l.Store.Stat(ctx, ref)
}

func (l *line) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	if err := l.err(); err != nil {
		return nil, err
	}
	return l.Store.Open(ctx, reading)
}

func (l *line) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	if err := l.err(); err != nil {
		return store.Written{}, err
	}
	return l.Store.Write(ctx, writing)
}

func (l *line) MakeFolder(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if err := l.err(); err != nil {
		return store.Entry{}, err
	}
	return l.Store.MakeFolder(ctx, ref)
}

func (l *line) Remove(ctx context.Context, ref store.Ref, revision string) (store.Removal, error) {
	if err := l.err(); err != nil {
		return "", err
	}
	return l.Store.Remove(ctx, ref, revision)
}

func (l *line) RemoveFolder(ctx context.Context, ref store.Ref) (store.Removal, error) {
	if err := l.err(); err != nil {
		return "", err
	}
	return l.Store.RemoveFolder(ctx, ref)
}

// twoRoutes is a run of two routes, the second over a line.
type twoRoutes struct {
	sources, targets [2]*storetest.Memory
	line             *line
	options          transfer.Options
}

func newTwoRoutes(t *testing.T, rules plan.Rules) *twoRoutes {
	b := &twoRoutes{}
	b.options = transfer.Options{ID: "two", Rules: rules, Records: newMemory(), Lanes: 3, Retry: retry.Policy{First: time.Millisecond},
		HeadStart: time.Millisecond}
	for i := range 2 {
		b.sources[i], b.targets[i] = storetest.NewMemory(), storetest.NewMemory()
		for n := range 40 {
			b.sources[i].Put(fmt.Sprint("content ", i, n), "in", fmt.Sprintf("%02d", n))
		}
		b.targets[i].Put("goes", "out", "goes")
		var target store.Store = b.targets[i]
		if i == 1 {
			b.line = newLine(target)
			target = b.line
		}
		side := func(name string, s store.Store, folder string) transfer.Side {
			return transfer.Side{Account: fmt.Sprint(name, i), Address: store.MakeAddress(fmt.Sprint(name, i), store.At(folder)), Store: s,
				Root: store.At(folder)}
		}
		b.options.Routes = append(b.options.Routes,
			transfer.Route{Source: side("desk", b.sources[i], "in"), Target: side("archive", target, "out"), Scope: fmt.Sprint("scope ", i)})
	}
	return b
}

// until waits for something of a run that goes on.
func until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Second); !holds(); time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("never: %s", what)
		}
	}
}

var absentRules = map[string]plan.Rules{
	"copy":    {},
	"mirror":  {Type: plan.Mirror, Conflict: plan.Source, Deletions: plan.DeleteToo},
	"two-way": {Type: plan.TwoWay, Conflict: plan.KeepBoth, Deletions: plan.DeleteToo},
}

// files is how many files of ours a target of a type holds in the end: a mirror has
// removed the other, and a two-way run has brought it to the source.
func (b *twoRoutes) files(i int, kind string) int {
	if kind == "mirror" {
		return 40
	}
	return 41
}

// TestRouteThatIsAway cuts one of two routes off: before the run, while it lists, and
// while it transfers. The other goes through, and when it is back so does this one.
func TestRouteThatIsAway(t *testing.T) {
	for kind, rules := range absentRules {
		for _, after := range []int64{0, 1, 2, 3, 5, 9, 20, 35} {
			t.Run(fmt.Sprintf("%s, cut after %d", kind, after), func(t *testing.T) {
				b := newTwoRoutes(t, rules)
				b.line.after.Store(after)
				run := transfer.New(b.options)
				ended := make(chan transfer.Result, 1)
				go func() { ended <- run.Execute(t.Context()) }()
				until(t, "the other route goes through, and the account is told to be away", func() bool {
					away := run.Snapshot().Away
					return len(withoutHistory(b.targets[0].Files())) == b.files(0, kind) && len(away) == 1 && away[0].Account == "archive1" &&
						away[0].Until.After(time.Now()) && strings.Contains(away[0].Why, "refused")
				})
				if kind == "mirror" && b.targets[1].Files()["/out/goes"] == "" && after < 3 {
					t.Error("something was removed by an incomplete listing")
				}
				select {
				case result := <-ended:
					t.Fatalf("it ended: %+v", result)
				case <-time.After(20 * time.Millisecond):
				}
				b.line.set(nil)
				select {
				case result := <-ended:
					if result.State != "done" {
						t.Fatalf("%+v", result)
					}
				case <-time.After(10 * time.Second):
					t.Fatal("it does not go on")
				}
				if n := len(withoutHistory(b.targets[1].Files())); n != b.files(1, kind) {
					t.Errorf("the target holds %d files: %v", n, b.targets[1].Files())
				}
				if s := run.Snapshot(); len(s.Away) != 0 || s.Failed != 0 || !s.Planned {
					t.Errorf("%+v", s)
				}
			})
		}
	}
}

// hanging is an account that does not answer at all while it hangs.
type hanging struct {
	store.Store
	hangs atomic.Bool
}

func (h *hanging) Capabilities() store.Capabilities { return store.Capabilities{} }

func (h *hanging) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	if h.hangs.Load() {
		return func(yield func(store.Entry, error) bool) { yield(store.Entry{}, away) }
	}
	return h.Store.List(ctx, folder)
}

func (h *hanging) Stat(ctx context.Context, ref store.Ref) (store.Entry, error) {
	if h.hangs.Load() {
		<-ctx.Done()
		return store.Entry{}, ctx.Err()
	}
	return h.Store.Stat(ctx, ref)
}

// TestRouteThatHangs waits for an account that takes requests and answers none.
func TestRouteThatHangs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newTwoRoutes(t, absentRules["copy"])
		h := &hanging{Store: b.targets[1]}
		h.hangs.Store(true)
		b.options.Routes[1].Target.Store = h
		run := transfer.New(b.options)
		ended := make(chan transfer.Result, 1)
		go func() { ended <- run.Execute(t.Context()) }()
		time.Sleep(2 * time.Minute)
		if away := run.Snapshot().Away; len(away) != 1 || !strings.Contains(away[0].Why, "did not answer within 30s") {
			t.Errorf("away are %+v", away)
		}
		h.hangs.Store(false)
		if result := <-ended; result.State != "done" {
			t.Errorf("%+v", result)
		}
	})
}

// TestRouteThatReturns looks again at once when an account may be back.
func TestRouteThatReturns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newTwoRoutes(t, absentRules["copy"])
		b.line.set(away)
		returned := make(chan struct{})
		b.options.Returned = func() <-chan struct{} { return returned }
		run := transfer.New(b.options)
		ended := make(chan transfer.Result, 1)
		go func() { ended <- run.Execute(t.Context()) }()
		time.Sleep(10 * time.Minute) // it looks every 30 seconds now
		b.line.set(nil)
		began := time.Now()
		close(returned)
		if result := <-ended; result.State != "done" || time.Since(began) > time.Second {
			t.Errorf("%+v after %v", result, time.Since(began))
		}
	})
}

// TestRouteThatStaysAway is waited for as long as the rules say, and no longer.
func TestRouteThatStaysAway(t *testing.T) {
	b := newTwoRoutes(t, plan.Rules{Within: 100 * time.Millisecond})
	b.line.set(away)
	begun := time.Now()
	result := transfer.New(b.options).Execute(t.Context())
	if result.State != "failed" || !strings.Contains(result.Why, "refused") || !strings.Contains(result.Why, "/archive1/out") {
		t.Errorf("%+v", result)
	}
	if took := time.Since(begun); took < 100*time.Millisecond || took > 5*time.Second {
		t.Errorf("it took %v", took)
	}
	if n := len(withoutHistory(b.targets[0].Files())); n != 41 {
		t.Errorf("the other target holds %d files", n)
	}
}

// TestRouteThatWaitsForAPerson holds the run once everything else is done.
func TestRouteThatWaitsForAPerson(t *testing.T) {
	for kind, rules := range absentRules {
		for _, why := range []error{store.Errorf(store.ErrSuspended, "it is suspended"),
			store.Errorf(store.ErrSignInExpired, "the sign-in expired")} {
			b := newTwoRoutes(t, rules)
			b.line.set(why)
			result := transfer.New(b.options).Execute(t.Context())
			if result.State != "held" || result.Cause != plan.CauseOf(why) {
				t.Errorf("%s, %v: %+v; want it held", kind, why, result)
			}
			if n := len(withoutHistory(b.targets[0].Files())); n != b.files(0, kind) {
				t.Errorf("%s, %v: the other target holds %d files", kind, why, n)
			}
			b.line.set(nil)
			b.options.Resumed = true
			if result := transfer.New(b.options).Execute(t.Context()); result.State != "done" ||
				len(withoutHistory(b.targets[1].Files())) != b.files(1, kind) {
				t.Errorf("%s, %v: gone on with: %+v, %d files", kind, why, result, len(withoutHistory(b.targets[1].Files())))
			}
		}
	}
}

// TestRouteThatIsOpenedLater begins with an account that could not be opened.
func TestRouteThatIsOpenedLater(t *testing.T) {
	for kind, rules := range absentRules {
		b := newTwoRoutes(t, rules)
		opened := b.options.Routes[1]
		unopened := opened
		unopened.Target.Store, unopened.Unopened = view.Unavailable(away), away
		b.options.Routes[1] = unopened
		tries := 0
		b.options.Open = func(_ context.Context, i int) (transfer.Route, error) {
			if i != 1 {
				t.Errorf("route %d is opened", i)
			}
			if tries++; tries < 3 {
				return transfer.Route{}, away
			}
			return opened, nil
		}
		result := transfer.New(b.options).Execute(t.Context())
		if result.State != "done" || tries != 3 || len(withoutHistory(b.targets[1].Files())) != b.files(1, kind) ||
			len(withoutHistory(b.targets[0].Files())) != b.files(0, kind) {
			t.Errorf("%s: %+v after %d tries: %d and %d files", kind, result, tries, len(withoutHistory(b.targets[0].Files())),
				len(withoutHistory(b.targets[1].Files())))
		}
	}
}

// TestContinuousRunWithARouteAway goes on with the routes that are there, and looks at
// all of the other once it is back.
func TestContinuousRunWithARouteAway(t *testing.T) {
	b := newTwoRoutes(t, plan.Rules{Type: plan.Mirror, Conflict: plan.Source, Deletions: plan.DeleteToo})
	pass := 0
	b.options.Again = func(ctx context.Context, _ transfer.PassResult) (transfer.Touched, bool) {
		pass++
		switch pass {
		case 1:
			b.sources[0].Put("new", "in", "new")
			b.sources[1].Put("new", "in", "new")
			b.sources[1].Put("not told", "in", "also new")
			b.line.set(away)
			time.AfterFunc(30*time.Millisecond, func() { b.line.set(nil) })
			return transfer.Touched{Places: []transfer.TouchedPlace{{Route: 0, Path: store.MakePath("new")},
				{Route: 1, Path: store.MakePath("new")}}}, true
		}
		return transfer.Touched{}, false
	}
	result := transfer.New(b.options).Execute(t.Context())
	if result.State != "done" || b.targets[0].Files()["/out/new"] != "new" || b.targets[1].Files()["/out/new"] != "new" ||
		b.targets[1].Files()["/out/also new"] != "not told" {
		t.Errorf("%+v: %d and %d files", result, len(withoutHistory(b.targets[0].Files())), len(withoutHistory(b.targets[1].Files())))
	}
}
