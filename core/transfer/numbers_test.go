package transfer_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"

	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

// TestNumbersAgree does random runs, with faults, moves, duplicates, conflicts, restarts
// and cancellations, and holds what the run tells at its end against what its records
// and its items come to.
func TestNumbersAgree(t *testing.T) {
	seeds := uint64(300)
	if testing.Short() {
		seeds = 80
	}
	for seed := range seeds {
		random := rand.New(rand.NewPCG(seed, 15))
		source, target := storetest.NewMemory(),
			&storetest.Account{Memory: storetest.NewMemory(), Moves: random.IntN(2) == 0, Copies: random.IntN(2) == 0}
		faulty := storetest.NewFaulty(target)
		records := newMemory()
		put := func(m *storetest.Memory, n int) {
			for range n {
				content := fmt.Sprint("content ", random.IntN(30), string(make([]byte, random.IntN(200))))
				m.Put(content, "in", fmt.Sprint("folder ", random.IntN(3)), fmt.Sprint(random.IntN(40)))
			}
		}
		put(source, 30)
		rules := []plan.Rules{
			{}, {Conflict: plan.Source}, {Conflict: plan.KeepBoth}, {Conflict: plan.KeepTarget},
			{Type: plan.Mirror, Conflict: plan.Source, Deletions: plan.DeleteToo},
			{Type: plan.Mirror, Conflict: plan.Source, Deletions: plan.KeepVersion},
			{Type: plan.TwoWay, Conflict: plan.KeepBoth, Deletions: plan.DeleteToo},
		}[random.IntN(7)]
		end := func(account string, s store.Store) transfer.Side {
			return transfer.Side{Account: account, Address: store.MakeAddress(account, store.At("in")), Store: s, Root: store.At("in")}
		}
		options := transfer.Options{
			Records: records, Lanes: 3, Retry: retry.Policy{First: 1, Tries: 2}, Rules: rules,
			Routes: []transfer.Route{{Source: end("desk", source), Target: end("archive", faulty), Scope: "both"}},
		}
		if random.IntN(2) == 0 {
			options.Crew = &testCrew{source: source, target: faulty, only: random.IntN(2) == 0, lanes: 1 + random.IntN(4), random: random}
		}
		target.Folder("in")
		for round := range 4 {
			put(source, random.IntN(10))
			put(target.Memory, random.IntN(5))
			for range random.IntN(4) {
				for name := range source.Files() {
					address, _ := store.ParseAddress("/a" + name)
					place, _ := address.Place()
					if random.IntN(2) == 0 {
						source.Rename(place, store.At("in", "moved", fmt.Sprint(random.IntN(1000))))
					} else {
						source.Remove(context.Background(), place.As(store.KindFile), "")
					}
					break
				}
			}
			for range random.IntN(4) {
				faulty.Add(storetest.Fault{Op: storetest.OpWrite, Name: fmt.Sprint(random.IntN(40)), Err: store.Errorf(store.ErrRefused, "refused"),
					Times: 1 + random.IntN(3)})
			}
			records.restart()
			options.ID, options.Resumed = fmt.Sprint("run", round), false
			ctx, cancel := context.WithCancelCause(t.Context())
			if random.IntN(5) == 0 {
				left := random.IntN(6)
				interrupted := options
				interrupted.Records = &mortalRecords{memory: records, end: func() { cancel(nil) }, left: left}
				transfer.New(interrupted).Execute(ctx)
				options.Resumed = true
				ctx, cancel = context.WithCancelCause(t.Context())
			}
			if random.IntN(6) == 0 {
				cancel(transfer.ErrCancelled)
			}
			run := transfer.New(options)
			result := run.Execute(ctx)
			cancel(nil)
			faulty.Clear()
			said := run.Snapshot()
			tally, err := records.Tally(t.Context(), options.ID)
			if err != nil {
				t.Fatal(err)
			}
			counted := transfer.Tally{Items: int64(len(records.items))}
			for _, item := range records.items {
				switch item.State {
				case transfer.Done:
					counted.Done++
				case transfer.Skipped:
					counted.Skipped++
				case transfer.Failed:
					counted.Failed++
				}
			}
			told := fmt.Sprint(said.Items, said.Done, said.Skipped, said.Failed, said.Bytes, said.Moved, said.Removed)
			kept := fmt.Sprint(tally.Items, tally.Done, tally.Skipped, tally.Failed, tally.Bytes, tally.Moved, tally.Removed)
			items := fmt.Sprint(counted.Items, counted.Done, counted.Skipped, counted.Failed)
			if told != kept || items != fmt.Sprint(said.Items, said.Done, said.Skipped, said.Failed) {
				t.Fatalf("seed %d, round %d, %+v, %s: the run tells %s, its records %s, its items %s", seed, round, rules.Type, result.State, told,
					kept, items)
			}
			if said.Waiting() != 0 {
				t.Errorf("seed %d, round %d: %d items have no end", seed, round, said.Waiting())
			}
			if said.Failed == 0 && result.State == "done" && rules.Type == "" && said.Moved > said.Bytes {
				t.Errorf("seed %d, round %d: %d of %d bytes were moved", seed, round, said.Moved, said.Bytes)
			}
		}
	}
}
