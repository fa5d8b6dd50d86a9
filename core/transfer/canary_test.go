package transfer_test

import (
	"context"
	"strings"
	"testing"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

// TestCanaryOfKilledRun has a process be killed while the canaries of its run are there, at stores that
// clean up uploads alone, as object stores do: the run that goes on removes them.
func TestCanaryOfKilledRun(t *testing.T) {
	b := newBench(t)
	b.rules = plan.Rules{Type: plan.Mirror, Conflict: plan.Source, Deletions: plan.DeleteToo}
	b.toRoot = store.Ref{}
	b.source.Put("content", "file")
	b.target.Put("content", "surplus")
	canaries := func() (all []string) {
		for side, files := range map[string]map[string]string{"source": b.source.Files(), "target": b.target.Files()} {
			for name := range files {
				if strings.Contains(name, "arriving") {
					all = append(all, side+name)
				}
			}
		}
		return all
	}
	ctx, kill := context.WithCancel(t.Context())
	runs++
	options := transfer.Options{ID: "killed", Routes: []transfer.Route{b.route()}, Rules: b.rules, Lanes: 2, Approved: true,
		Records: &mortalRecords{memory: b.records, end: func() { kill(); panicking(t, canaries()) }, left: 0}}
	dead := options
	dead.Routes = []transfer.Route{b.route()}
	dead.Routes[0].Source.Store, dead.Routes[0].Target.Store = unremoving{b.source}, unremoving{b.target}
	transfer.New(dead).Execute(ctx)
	if len(canaries()) != 2 {
		t.Fatalf("of the killed process there are %v", canaries())
	}
	options.Resumed, options.Records = true, b.records
	if result := transfer.New(options).Execute(t.Context()); result.State != "done" {
		t.Fatalf("%+v", result)
	}
	if left := canaries(); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// panicking is where a process would end.
func panicking(t *testing.T, canaries []string) {
	t.Helper()
	if len(canaries) != 2 {
		t.Errorf("the process is killed before there are canaries: %v", canaries)
	}
}

// unremoving is a store whose process is killed before it removes anything.
type unremoving struct{ store.Store }

func (u unremoving) Capabilities() store.Capabilities { return u.Store.Capabilities() }

// Remove implements store.Store.
func (unremoving) Remove(context.Context, store.Ref, string) (store.Removal, error) {
	return "", store.Errorf(store.ErrTryAgain, "the process was killed")
}
