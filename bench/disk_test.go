package bench

import (
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
)

// TestBenchFolderSmall copies many small files from folder to folder: on a disk against a
// bare loop of four workers that syncs each 500 files together before it names them, and
// in memory, where nothing is synced, against cp -r. What was copied on the disk stays
// until the end: a removal is still at work in the next round.
func TestBenchFolderSmall(t *testing.T) {
	skip(t)
	p := build(t)
	files := 20_000 * *scale / 100
	disk := smallFiles(t, p, t.TempDir(), files)
	var onDisk, inMemory []float64
	for n := range *pairs {
		ours, theirs := disk.pair(n, disk.bare)
		onDisk = append(onDisk, theirs/ours)
		t.Logf("pair %d: %.2f s, bare loop %.2f s, ratio %.3f", n+1, ours, theirs, theirs/ours)
	}
	row(t, fmt.Sprintf("small files, folder to folder, %d, synced", files), "≥ 0.90", onDisk, 0.9)
	memory := smallFiles(t, p, scratch(t), files)
	for n := range *pairs {
		ours, theirs := memory.pair(n, memory.cp)
		inMemory = append(inMemory, theirs/ours)
		t.Logf("pair %d: %.2f s, cp -r %.2f s, ratio %.3f", n+1, ours, theirs, theirs/ours)
	}
	row(t, fmt.Sprintf("small files, folder to folder, %d, in memory, cp -r", files), "≥ 0.30", inMemory, 0.3)
}

// smallTree is a folder with many files of 4 KiB in 50 folders, and a service that has it
// as an account.
type smallTree struct {
	t       *testing.T
	p       programs
	h       *heron
	top     string
	source  string
	set     []object
	folders int
}

func smallFiles(t *testing.T, p programs, top string, files int) *smallTree {
	t.Helper()
	tree := &smallTree{t: t, p: p, top: top, source: filepath.Join(top, "source"), folders: 50}
	tree.makeFolders(tree.source)
	content := make([]byte, 4096)
	for i := range files {
		key := fmt.Sprintf("%02d/%05d", i%tree.folders, i)
		rand.Read(content)
		if err := os.WriteFile(filepath.Join(tree.source, key), content, 0o666); err != nil {
			t.Fatal(err)
		}
		tree.set = append(tree.set, object{key, int64(len(content))})
	}
	tree.h, _ = serve(t, p.heron, filepath.Join(top, "data"), servertest.FreeAddress(t))
	tree.h.link(contract.Link{Provider: "folder", Name: "source", Options: map[string]string{"path": tree.source}})
	target := filepath.Join(top, "target")
	if err := os.Mkdir(target, 0o777); err != nil {
		t.Fatal(err)
	}
	tree.h.link(contract.Link{Provider: "folder", Name: "target", Options: map[string]string{"path": target}})
	return tree
}

func (s *smallTree) makeFolders(top string) {
	for i := range s.folders {
		if err := os.MkdirAll(filepath.Join(top, fmt.Sprintf("%02d", i)), 0o777); err != nil {
			s.t.Fatal(err)
		}
	}
}

// pair measures both sides once, in the order of the pair's number.
func (s *smallTree) pair(n int, other func(to string) float64) (ours, theirs float64) {
	sides := []func(){
		func() {
			var run contract.Run
			ours, run = s.h.copy("/source", fmt.Sprintf("/target/%d", n))
			if want := int64(len(s.set)); run.Items.Done != want || run.Items.Failed > 0 {
				s.t.Fatalf("%+v of %d files", run.Items, want)
			}
		},
		func() { theirs = other(filepath.Join(s.top, fmt.Sprintf("other %d", n))) },
	}
	if n%2 == 1 {
		slices.Reverse(sides)
	}
	for _, side := range sides {
		s.h.rest()
		exec.Command("sync", "-f", s.top).Run()
		side()
	}
	return ours, theirs
}

func (s *smallTree) bare(to string) float64 {
	s.makeFolders(to)
	seconds, _ := s.p.loop(s.t, nil, s.set, "-disk", "-from", s.source, "-to", to, "-workers", "4")
	return seconds
}

func (s *smallTree) cp(to string) float64 {
	begun := time.Now()
	if out, err := exec.Command("cp", "-r", s.source, to).CombinedOutput(); err != nil {
		s.t.Fatalf("%v: %s", err, out)
	}
	return time.Since(begun).Seconds()
}
