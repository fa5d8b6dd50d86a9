package bench

import (
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/sealed"
	"deftheron/servertest"
)

// TestBenchSealed copies into a sealed place, against a bare loop that seals each file with
// the age library, and against a plain copy from a source of 100 MB/s.
func TestBenchSealed(t *testing.T) {
	skip(t)
	p := build(t)
	for _, of := range []struct {
		what        string
		files, size int
	}{
		{"small files", 20_000 * *scale / 100, 4 << 10},
		{"large files", 16, 128 << 20 * *scale / 100},
	} {
		s := newSealedBench(t, p, of.files, of.size)
		var ratios []float64
		for n := range *pairs {
			ours, theirs := s.pair(func() float64 { return s.copy("/vault", n) }, func() float64 { return s.bare(n) }, n)
			ratios = append(ratios, theirs/ours)
			t.Logf("pair %d: %.2f s, bare loop that seals %.2f s, ratio %.3f", n+1, ours, theirs, theirs/ours)
		}
		row(t, fmt.Sprintf("sealed copy, %s, %d of %d KiB, bare loop", of.what, of.files, of.size>>10), "≥ 0.90", ratios, 0.9)
		if of.files > 100 {
			continue
		}
		s.settings.Bandwidth = job.Bandwidth{Down: "100MB/s"}
		ratios = nil
		for n := range *pairs {
			ours, theirs := s.pair(func() float64 { return s.copy("/vault", 100+n) }, func() float64 { return s.copy("/plain", 100+n) }, n)
			ratios = append(ratios, theirs/ours)
			t.Logf("pair %d: %.2f s, plain %.2f s, ratio %.3f", n+1, ours, theirs, theirs/ours)
		}
		row(t, "sealed copy, large files, a source of 100 MB/s, plain copy", "≥ 0.95", ratios, 0.95)
	}
}

type sealedBench struct {
	t              *testing.T
	p              programs
	h              *heron
	top, recipient string
	set            []object
	settings       job.Settings
}

func newSealedBench(t *testing.T, p programs, files, size int) *sealedBench {
	t.Helper()
	s := &sealedBench{t: t, p: p, top: scratch(t)}
	content := make([]byte, size)
	for i := range files {
		key := fmt.Sprintf("%02d/%05d", i%50, i)
		_, _ = rand.Read(content[:min(size, 4096)])
		path := filepath.Join(s.top, "source", key)
		if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, content, 0o666); err != nil {
			t.Fatal(err)
		}
		s.set = append(s.set, object{key, int64(size)})
	}
	s.h, _ = serve(t, p.heron, filepath.Join(s.top, "data"), servertest.FreeAddress(t))
	for _, name := range []string{"source", "plain", "base"} {
		path := filepath.Join(s.top, name)
		if err := os.MkdirAll(path, 0o777); err != nil {
			t.Fatal(err)
		}
		s.h.link(contract.Link{Provider: "folder", Name: name, Options: map[string]string{"path": path}})
	}
	identity, recipient, err := sealed.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	s.recipient = recipient
	s.h.link(contract.Link{Provider: "sealed", Name: "vault", Options: map[string]string{"in": "/base/vault"},
		Files: map[string]string{"key-file": identity}})
	return s
}

func (s *sealedBench) pair(ours, theirs func() float64, n int) (a, b float64) {
	sides := []func(){func() { a = ours() }, func() { b = theirs() }}
	if n%2 == 1 {
		slices.Reverse(sides)
	}
	for _, side := range sides {
		side()
	}
	return a, b
}

func (s *sealedBench) copy(to string, n int) float64 {
	s.t.Helper()
	seconds, run := s.h.copyBy("/source", fmt.Sprintf("%s/%d", to, n), s.settings)
	if want := int64(len(s.set)); run.Items.Done != want || run.Items.Failed > 0 {
		s.t.Fatalf("%+v of %d files", run.Items, want)
	}
	time.Sleep(300 * time.Millisecond) // what is removed afterwards
	if len(s.set) < 100 {
		s.clear(to, n)
	}
	return seconds
}

// clear makes room in memory.
func (s *sealedBench) clear(to string, n int) {
	path := filepath.Join(s.top, "plain", fmt.Sprint(n))
	if to != "/plain" {
		path = filepath.Join(s.top, "base", "vault", "contents")
	}
	err := filepath.WalkDir(path, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		return os.Remove(path)
	})
	if err != nil {
		s.t.Fatal(err)
	}
}

func (s *sealedBench) bare(n int) float64 {
	s.t.Helper()
	to := filepath.Join(s.top, fmt.Sprint("bare ", n))
	for i := range 50 {
		if err := os.MkdirAll(filepath.Join(to, fmt.Sprintf("%02d", i)), 0o777); err != nil {
			s.t.Fatal(err)
		}
	}
	seconds, _ := s.p.loop(s.t, nil, s.set, "-disk", "-from", filepath.Join(s.top, "source"), "-to", to, "-workers", "4", "-seal", s.recipient)
	if err := os.RemoveAll(to); err != nil {
		s.t.Fatal(err)
	}
	return seconds
}
