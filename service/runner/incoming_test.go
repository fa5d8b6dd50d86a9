package runner_test

import (
	"testing"
	"time"

	"deftheron/contract"
)

// incoming waits until a job knows of so many arrivals in a state.
func (o *office) incoming(job, state string, want int) []contract.Arrival {
	o.t.Helper()
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		all, err := o.runner.Incoming(o.t.Context(), job)
		if err != nil {
			o.t.Fatal(err)
		}
		var in []contract.Arrival
		for _, one := range all {
			if one.State == state {
				in = append(in, one)
			}
		}
		if len(in) == want {
			return in
		}
		if time.Now().After(deadline) {
			o.t.Fatalf("%d arrivals of %s are %s, want %d: %+v", len(in), job, state, want, all)
		}
	}
}

// watched waits until what is at the sources of a job from then on is an arrival.
func (o *office) watched(job string) {
	o.t.Helper()
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		row, err := o.db.KeptJob(o.t.Context(), job)
		if err != nil {
			o.t.Fatal(err)
		}
		if row.WatchedAt != nil {
			return
		}
		if time.Now().After(deadline) {
			o.t.Fatalf("the job %s does not come to look for arrivals", job)
		}
	}
}

// TestEditedWhileItRests has what rests taken by the rule as it is now, at once, while
// another job already follows the account, whose answer is long in coming.
func TestEditedWhileItRests(t *testing.T) {
	o := newOffice(t, t.TempDir())
	in, out := t.TempDir(), t.TempDir()
	o.link("in", in)
	o.link("out", out)
	put(t, in, map[string]string{"one/there.txt": "there", "two/there.txt": "there"})
	resting := func(rest string) func(*contract.JobSpec) {
		return func(spec *contract.JobSpec) {
			spec.When = contract.When{Arrival: "file"}
			spec.Arrivals = contract.Arrivals{Rest: rest}
		}
	}
	o.job("one", "copy", "/in/one", "/out/one", resting("1h"))
	o.watched("one")
	o.job("two", "copy", "/in/two", "/out/two", resting("1h"))
	o.watched("two")
	put(t, in, map[string]string{"two/new.txt": "new"})
	o.incoming("two", "resting", 1)

	edit := func(rest string) {
		t.Helper()
		before, err := o.runner.Job(t.Context(), "two")
		if err != nil {
			t.Fatal(err)
		}
		resting(rest)(&before.Spec)
		if _, err := o.runner.ChangeJob(t.Context(), "two", before.Spec, time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	for range 5 { // each edit ends what followed before
		edit("2h")
		edit("1h")
	}
	edit("1s")
	o.incoming("two", "done", 1)
	if got := holds(t, out); got["two/new.txt"] != "new" || len(got) != 1 {
		t.Errorf("taken were %v", got)
	}
}

// TestArrivesOnce has a file that was looked at in the moment of its writing taken once,
// though its revision is another when that moment has passed.
func TestArrivesOnce(t *testing.T) {
	o := newOffice(t, t.TempDir())
	in, out := t.TempDir(), t.TempDir()
	o.link("in", in)
	o.link("out", out)
	o.job("take", "copy", "/in", "/out", func(spec *contract.JobSpec) {
		spec.When = contract.When{Arrival: "file"}
		spec.Arrivals = contract.Arrivals{Rest: "1s"}
	})
	o.watched("take")
	put(t, in, map[string]string{"first.txt": "first"})
	if _, err := o.runner.Announce(t.Context(), "take", "/in/first.txt"); err != nil {
		t.Fatal(err)
	}
	first := o.incoming("take", "done", 1)[0]
	if err := o.runner.SuspendJob(t.Context(), "take", true); err != nil {
		t.Fatal(err)
	}
	put(t, in, map[string]string{"second.txt": "second"})
	if err := o.runner.SuspendJob(t.Context(), "take", false); err != nil { // all is looked at again
		t.Fatal(err)
	}
	for _, one := range o.incoming("take", "done", 2) {
		if one.Address == first.Address && one.Run != first.Run {
			t.Errorf("%s was taken again, by the run %s", one.Address, one.Run)
		}
	}
}
