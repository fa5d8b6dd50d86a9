package transfer_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
	"deftheron/core/unit"
)

// testCrew copies in this process, and loses some of what it is asked and answers.
type testCrew struct {
	source, target store.Store
	only           bool
	lanes          int
	// lie has what is told of a copy be what is returned.
	lie func(unit.Copied) unit.Copied
	// together is how many units are answered at the same moment, the first time.
	together int
	waiting  int
	all      chan struct{}

	mu         sync.Mutex
	random     *rand.Rand // nil loses nothing
	copied     int        // copies and parts that were told of
	most       int        // copies of a unit
	distrusted []string
}

func (c *testCrew) Lanes(int) (members, lanes int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.random != nil && c.random.IntN(10) == 0 || len(c.distrusted) > 0 {
		return 0, 0
	}
	return 1, c.lanes
}

func (c *testCrew) Only() bool { return c.only }

func (c *testCrew) Distrust(_ context.Context, by string, why error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.distrusted = append(c.distrusted, fmt.Sprint(by, ": ", why))
}

// chance returns a random number below n; 0 without chance.
func (c *testCrew) chance(n int) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.random == nil {
		return 0
	}
	return c.random.IntN(n)
}

func (c *testCrew) Carry(ctx context.Context, _ int, u unit.Unit) (string, []unit.Copied, error) {
	lost := errors.New("nobody knows")
	fate := c.chance(8)
	if fate == 1 {
		return "somebody", nil, lost
	}
	if fate == 2 { // it did a part, and was killed
		u.Copies = u.Copies[:1+c.chance(len(u.Copies))]
	}
	carrier := &transfer.Carrier{Lanes: make(chan struct{}, 4), Log: slog.New(slog.DiscardHandler)}
	var all []unit.Copied
	err := carrier.Carry(ctx, transfer.Carriage{Unit: u, Source: c.source, Target: c.target,
		Pay:  func(_ context.Context, n int) (int, error) { return min(n, 7), nil },
		Done: func(one unit.Copied) error { all = append(all, one); return nil }})
	if err != nil || fate == 2 || fate == 3 { // all is done, and the answer is lost
		return "somebody", nil, errors.Join(lost, err)
	}
	c.await()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.most = max(c.most, len(u.Copies))
	for i := range all {
		if all[i].Err == nil {
			c.copied++
		}
		if c.lie != nil {
			all[i] = c.lie(all[i])
		}
	}
	return "somebody", all, nil
}

// await waits until so many units are to be answered together, or a moment if there are not as many.
func (c *testCrew) await() {
	c.mu.Lock()
	if c.together == 0 {
		c.mu.Unlock()
		return
	}
	if c.all == nil {
		c.all = make(chan struct{})
	}
	if c.waiting++; c.waiting == c.together {
		close(c.all)
	}
	all := c.all
	c.mu.Unlock()
	select {
	case <-all:
	case <-time.After(time.Second):
	}
}

// withCrew has a run of the bench be helped.
func (b *bench) withCrew(crew *testCrew) *testCrew {
	crew.source, crew.target = b.source, b.target
	if crew.lanes == 0 {
		crew.lanes = 4
	}
	b.crew = crew
	return crew
}

func TestCrewCopies(t *testing.T) {
	for name, random := range map[string]*rand.Rand{"well": nil, "badly": rand.New(rand.NewPCG(1, 2))} {
		for _, only := range []bool{false, true} {
			t.Run(fmt.Sprint(name, " only=", only), func(t *testing.T) {
				b := newBench(t)
				crew := b.withCrew(&testCrew{only: only, random: random})
				want := map[string]string{}
				for i := range 900 {
					name := fmt.Sprint("file ", i)
					want["/copy/folder/"+name] = strings.Repeat(name, i%50)
					b.source.Put(want["/copy/folder/"+name], "folder", name)
				}
				_, snapshot := b.run("done")
				b.want(want)
				if snapshot.Done != 900 || snapshot.Waiting() != 0 || snapshot.Moved != snapshot.Bytes {
					t.Errorf("it tells %+v", snapshot)
				}
				if crew.copied < 20 || random == nil && only && crew.copied != 900 || crew.most > 64 {
					t.Errorf("the crew copied %d of 900, at most %d at once", crew.copied, crew.most)
				}
				for i := range 90 {
					name := fmt.Sprint("file ", i*10)
					want["/copy/folder/"+name] = "changed " + name
					b.source.Put(want["/copy/folder/"+name], "folder", name)
				}
				b.rules.Conflict = plan.Source
				if _, snapshot = b.run("done"); snapshot.Done != 90 {
					t.Errorf("of what was changed: %+v", snapshot)
				}
				b.want(want)
			})
		}
	}
}

func TestCrewCopiesParts(t *testing.T) {
	for name, random := range map[string]*rand.Rand{"well": nil, "badly": rand.New(rand.NewPCG(3, 4))} {
		for _, only := range []bool{false, true} {
			t.Run(fmt.Sprint(name, " only=", only), func(t *testing.T) {
				b := newBench(t)
				b.target.PartsAbove, b.target.PartSize = 1000, 700
				crew := b.withCrew(&testCrew{only: only, random: random})
				want := map[string]string{}
				for i := range 12 {
					name := fmt.Sprint("film ", i)
					want["/copy/"+name] = strings.Repeat(fmt.Sprintf("%08d", i), 1000+i)
					b.source.Put(want["/copy/"+name], name)
				}
				_, snapshot := b.run("done")
				b.want(want)
				if snapshot.Moved != snapshot.Bytes || only && random == nil && crew.copied == 0 {
					t.Errorf("it tells %+v, and the crew copied %d parts", snapshot, crew.copied)
				}
			})
		}
	}
}

// TestCrewLies has somebody say that it copied what it did not, or something else.
func TestCrewLies(t *testing.T) {
	for name, set := range map[string]func(b *bench, crew *testCrew){
		"of a hash": func(_ *bench, crew *testCrew) {
			crew.lie = func(of unit.Copied) unit.Copied {
				of.Verification = "crc64nvme=0123456789abcdef (told by the target)"
				return of
			}
		},
		"of what was read": func(b *bench, crew *testCrew) {
			other := storetest.NewMemory()
			for i := range 300 {
				other.Put(fmt.Sprint("other", i), fmt.Sprint(i))
			}
			crew.source = other
			crew.anyRevision()
		},
		"of having done anything": func(_ *bench, crew *testCrew) {
			elsewhere := storetest.NewMemory()
			elsewhere.Folder("copy")
			crew.target = elsewhere
		},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			crew := b.withCrew(&testCrew{only: true, lanes: 16, together: 5})
			set(b, crew)
			want := map[string]string{}
			for i := range 300 {
				want[fmt.Sprint("/copy/", i)] = fmt.Sprint("right", i)
				b.source.Put(want[fmt.Sprint("/copy/", i)], fmt.Sprint(i))
			}
			b.rules.Conflict = plan.Source
			b.run("done")
			if len(crew.distrusted) == 0 {
				t.Error("nobody noticed")
			}
			if name != "of what was read" { // what was said before it was noticed is not looked at again
				b.want(want)
			}
		})
	}
}

// anyRevision has the crew read whatever is there.
func (c *testCrew) anyRevision() { c.source = anyRevision{c.source} }

type anyRevision struct{ store.Store }

func (a anyRevision) Capabilities() store.Capabilities { return a.Store.Capabilities() }

// Open implements store.Store.
func (a anyRevision) Open(ctx context.Context, reading store.Reading) (io.ReadCloser, error) {
	reading.Revision = ""
	return a.Store.Open(ctx, reading)
}

// TestCrewIsNotAsked has what needs more of a run than a copy be the run's own.
func TestCrewIsNotAsked(t *testing.T) {
	for name, rules := range map[string]plan.Rules{
		"two ways":                   {Type: plan.TwoWay, Conflict: plan.KeepBoth},
		"identical once":             {IdenticalOnce: true},
		"overwritten, with versions": {Type: plan.Mirror, Conflict: plan.Source, Deletions: plan.KeepVersion},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			b.rules = rules
			if name == "overwritten, with versions" {
				for i := range 100 {
					b.source.Put(fmt.Sprint("before ", i), fmt.Sprint(i))
				}
				b.run("done")
			}
			crew := b.withCrew(&testCrew{only: true})
			for i := range 100 {
				b.source.Put(fmt.Sprint("file ", i), fmt.Sprint(i))
			}
			b.run("done")
			if crew.copied > 0 {
				t.Errorf("the crew copied %d", crew.copied)
			}
		})
	}
}

// simulated is a crew of members that take some time for each copy, in lanes.
type simulated struct {
	members, lanes int
	takes          time.Duration
	target         *storetest.Memory

	mu   sync.Mutex
	load []int
	busy []chan struct{}
}

func (s *simulated) Lanes(int) (members, lanes int)          { return s.members, s.members * s.lanes }
func (s *simulated) Only() bool                              { return true }
func (s *simulated) Distrust(context.Context, string, error) {}

// Carry gives a unit to the member that has least to do.
func (s *simulated) Carry(ctx context.Context, _ int, u unit.Unit) (string, []unit.Copied, error) {
	s.mu.Lock()
	least := 0
	for i, load := range s.load {
		if load < s.load[least] {
			least = i
		}
	}
	s.load[least] += len(u.Copies)
	s.mu.Unlock()
	copied := make([]unit.Copied, len(u.Copies))
	var group sync.WaitGroup
	for i, one := range u.Copies {
		group.Go(func() {
			s.busy[least] <- struct{}{}
			time.Sleep(s.takes)
			<-s.busy[least]
			s.target.Put("x", append(one.To.Folder.Path.Names(), one.To.Name)...)
			entry, err := s.target.Stat(ctx, one.To)
			copied[i] = unit.Copied{Seq: one.Seq, Size: one.Size, Entry: entry, Verification: "size alone, as asked", Err: err}
		})
	}
	group.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.load[least] -= len(u.Copies)
	return fmt.Sprint(least), copied, nil
}

// TestCrewSpeedup has 1, 10 and 100 members copy in simulated time: twice as many take half as long, down to
// where a run has few files for each lane.
func TestCrewSpeedup(t *testing.T) {
	const files = 16_000
	seconds := map[int]float64{}
	for _, members := range []int{1, 10, 100} {
		synctest.Test(t, func(t *testing.T) {
			b := newBench(t)
			for i := range files {
				b.source.Put("x", fmt.Sprint("folder ", i/1000), fmt.Sprint(i))
			}
			crew := &simulated{members: members, lanes: 16, takes: 160 * time.Millisecond, load: make([]int, members),
				target: b.target}
			for range members {
				crew.busy = append(crew.busy, make(chan struct{}, 16))
			}
			b.carriers = crew
			begun := time.Now()
			if _, snapshot := b.run("done"); snapshot.Done != files {
				t.Fatalf("%+v", snapshot)
			}
			seconds[members] = time.Since(begun).Seconds()
		})
	}
	for members, least := range map[int]float64{10: 9, 100: 80} {
		speedup := seconds[1] / seconds[members]
		t.Logf("%d members: %.1f s, %.1f times as fast as one", members, seconds[members], speedup)
		if speedup < least {
			t.Errorf("%d members are %.1f times as fast as one", members, speedup)
		}
	}
}
