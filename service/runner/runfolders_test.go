package runner_test

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/store"
)

// inFolders copies a folder three times, each run into a folder of its own, and returns what the
// target holds by the number of the run.
func (o *office) inFolders(t *testing.T, name string, changed bool, history job.History) (target string, runs func() []map[string]string) {
	t.Helper()
	dir := t.TempDir()
	o.link(name, dir)
	put(t, filepath.Join(dir, "in"), map[string]string{"b.txt": "same"})
	time.Sleep(50 * time.Millisecond) // so that its time says that it has not changed since
	target = filepath.Join(dir, "out")
	o.job(name, "copy", "/"+name+"/in", "/"+name+"/out", func(spec *contract.JobSpec) {
		spec.Rules.As, spec.Rules.Include.Changed, spec.History = "{run:%Y}/{run:%m%d %H%M%S.%L}/{folder}/{name}", changed, history
	})
	for n, files := range []map[string]string{{"sub/a.txt": "first"}, {"sub/a.txt": "second time"}, {"sub/a.txt": "and third"}} {
		put(t, filepath.Join(dir, "in"), files)
		if run := o.start(name); run.State != "done" || run.Items.Failed > 0 {
			t.Fatalf("run %d: %+v", n, run)
		}
	}
	return target, func() (all []map[string]string) {
		held := map[string]map[string]string{}
		for path, content := range holds(t, target) {
			steps := strings.SplitN(path, "/", 3)
			folder := steps[0] + "/" + steps[1]
			if held[folder] == nil {
				held[folder] = map[string]string{}
			}
			held[folder][steps[2]] = content
		}
		for _, folder := range slices.Sorted(maps.Keys(held)) {
			all = append(all, held[folder])
		}
		return all
	}
}

// TestFoldersOfRunsAreHistory has the rules of history delete what older runs have put into
// folders of their own: never the newest of a file, nor what was changed there, nor anything
// without such rules.
func TestFoldersOfRunsAreHistory(t *testing.T) {
	o := newOffice(t, t.TempDir())
	keepOne := job.History{Keep: job.Keep{Versions: 1}}
	check := func(what string, runs func() []map[string]string, want ...map[string]string) {
		t.Helper()
		if got := runs(); !slices.EqualFunc(got, want, maps.Equal) {
			t.Errorf("%s: the runs hold %v\nwant %v", what, got, want)
		}
	}
	first, second, third := map[string]string{"sub/a.txt": "first", "b.txt": "same"},
		map[string]string{"sub/a.txt": "second time", "b.txt": "same"}, map[string]string{"sub/a.txt": "and third", "b.txt": "same"}

	_, whole := o.inFolders(t, "whole", false, keepOne)
	check("whole runs", whole, first, second, third)
	_, changed := o.inFolders(t, "changed", true, keepOne)
	onlySecond, onlyThird := map[string]string{"sub/a.txt": "second time"}, map[string]string{"sub/a.txt": "and third"}
	check("what changed", changed, first, onlySecond, onlyThird)
	_, unruled := o.inFolders(t, "unruled", false, job.History{})
	_, locked := o.inFolders(t, "locked", false, job.History{Keep: job.Keep{Versions: 1}, Locked: "30d"})
	touched, altered := o.inFolders(t, "altered", false, keepOne)
	oldest := filepath.Dir(slices.Sorted(maps.Keys(holds(t, touched)))[0])
	if err := os.WriteFile(filepath.Join(touched, oldest, "b.txt"), []byte("mine now"), 0o644); err != nil {
		t.Fatal(err)
	}

	freed, err := o.runner.HistoryFreed(t.Context(), "whole", job.History{Keep: job.Keep{All: "1d"}})
	if err != nil || freed.Versions != 0 {
		t.Errorf("a rule that keeps all would free %+v, %v", freed, err)
	}
	freed, err = o.runner.HistoryFreed(t.Context(), "whole", keepOne)
	if err != nil || freed.Versions != 2 || freed.Bytes != int64(len("first")+len("same")) {
		t.Errorf("the rule would free %+v, %v", freed, err)
	}
	for range 2 {
		o.runner.ThinHistory(t.Context(), time.Now().Add(time.Hour))
		check("whole runs, thinned", whole, second, third)
		check("what changed, thinned", changed, map[string]string{"b.txt": "same"}, onlySecond, onlyThird)
		check("without rules", unruled, first, second, third)
		check("locked", locked, first, second, third)
		check("altered", altered, map[string]string{"b.txt": "mine now"}, second, third)
	}
	address := func(text string) store.Address {
		t.Helper()
		parsed, err := store.ParseAddress(text)
		if err != nil {
			t.Fatal(err)
		}
		return parsed
	}
	if err := o.runner.CheckLoss(t.Context(), address("/locked/out/2026")); store.KindOf(err) != store.ErrRefused {
		t.Errorf("what is locked may be deleted: %v", err)
	}
	if err := o.runner.CheckLoss(t.Context(), address("/whole/out")); err != nil {
		t.Errorf("what is not locked: %v", err)
	}
	o.runner.ThinHistory(t.Context(), time.Now().Add(31*24*time.Hour))
	check("locked, after its time", locked, second, third)
	o.runner.ThinHistory(t.Context(), time.Now().Add(400*24*time.Hour))
	check("without rules, after a year", unruled, first, second, third)
}
