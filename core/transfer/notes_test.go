package transfer_test

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// killed are records of a process that is killed before it writes down any ending.
type killed struct {
	*memory
	end context.CancelFunc
}

func (k *killed) Finish(context.Context, string, []string, []transfer.Ending) error {
	k.end()
	return nil
}

// TestKilledAndWorkedOn kills the process when a two-way run has changed one side and
// not written that down, has somebody work on before the next start, and expects what
// would have come of it without the kill: no file that comes back, and no conflict.
func TestKilledAndWorkedOn(t *testing.T) {
	in := func(name string) store.Ref { return store.At("in", name) }
	before := map[string]func(from *storetest.Account){ // what the run that is killed finds
		"created":  func(from *storetest.Account) { from.Put("created", "in", "new") },
		"changed":  func(from *storetest.Account) { from.Put("changed", "in", "x") },
		"moved":    func(from *storetest.Account) { from.Rename(in("x"), in("new")) },
		"a folder": func(from *storetest.Account) { from.Folder("in", "new") },
	}
	name := map[string]string{"created": "new", "changed": "x", "moved": "new", "a folder": "new"}
	after := map[string]func(from *storetest.Account, name string){
		"changed": func(from *storetest.Account, name string) { from.Put("changed again", "in", name) },
		"removed": func(from *storetest.Account, name string) { from.Remove(context.Background(), in(name), "") },
		"moved":   func(from *storetest.Account, name string) { from.Rename(in(name), in("elsewhere")) },
		"a folder in its place": func(from *storetest.Account, name string) {
			from.Remove(context.Background(), in(name), "")
			from.Put("inside", "in", name, "f")
		},
		"no more a folder": func(from *storetest.Account, name string) { from.RemoveFolder(context.Background(), in(name)) },
		"nothing":          func(*storetest.Account, string) {},
	}
	for first, before := range before {
		for second, after := range after {
			if first == "a folder" != (second == "no more a folder") {
				continue
			}
			for _, worker := range []int{0, 1} {
				for _, planned := range []bool{true, false} {
					t.Run(fmt.Sprintf("%s, then %s, at side %d, planned %v", first, second, worker, planned), func(t *testing.T) {
						var sides [2]*storetest.Account
						for i := range sides {
							sides[i] = &storetest.Account{Memory: storetest.NewMemory(), Moves: true}
							sides[i].SetClock(time.Date(2026, 3, 1+i, 12, 0, 0, 0, time.UTC))
							sides[i].Folder("in")
						}
						records := newMemory()
						end := func(account string, s *storetest.Account) transfer.Side {
							return transfer.Side{Account: account, Address: store.MakeAddress(account, store.At("in")), Store: s, Root: store.At("in")}
						}
						options := transfer.Options{
							ID: "first", Records: records, Lanes: 2, Retry: retry.Policy{First: 1},
							Routes: []transfer.Route{{Source: end("sedge", sides[0]), Target: end("alder", sides[1]), Scope: "both"}},
							Rules:  plan.Rules{Type: plan.TwoWay, Conflict: plan.KeepBoth},
						}
						sides[0].Put("as it was", "in", "x")
						sides[0].Put("another", "in", "stays")
						if result := transfer.New(options).Execute(t.Context()); result.State != "done" {
							t.Fatalf("first run: %+v", result)
						}
						records.restart()
						options.ID = "second"
						before(sides[worker])
						ctx, cancel := context.WithCancel(t.Context())
						defer cancel()
						mortal := options
						mortal.Records = &killed{memory: records, end: cancel}
						if result := transfer.New(mortal).Execute(ctx); result.State != "" {
							t.Fatalf("it was not killed: %+v", result)
						}
						after(sides[worker], name[first])
						want := withoutHistory(sides[worker].Files())
						records.planned = planned
						options.Resumed = true
						for range 2 {
							if result := transfer.New(options).Execute(t.Context()); result.State != "done" && result.State != "partial" {
								t.Fatalf("after the kill: %+v", result)
							}
							records.restart()
							options.ID, options.Resumed = "third", false
						}
						for i, side := range sides {
							got := side.Files()
							maps.DeleteFunc(got, func(name, _ string) bool { return strings.HasPrefix(name, "/"+store.OwnFolder+"/") }) // retired
							if !maps.Equal(got, want) {
								t.Errorf("side %d holds %v\nwant %v", i, got, want)
							}
							if _, err := side.Stat(t.Context(), in("new").As(store.KindFolder)); second == "no more a folder" &&
								store.KindOf(err) != store.ErrNotFound {
								t.Errorf("the folder is there again at side %d: %v", i, err)
							}
						}
					})
				}
			}
		}
	}
}
