package bench

import (
	"bytes"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"deftheron/contract"
	"deftheron/servertest"
)

var (
	growth = flag.Bool("growth", false, "run what measures how the time of a file grows with their number")
	sizes  = flag.String("sizes", "5000,20000,100000", "of the trees whose growth is measured")
	before = flag.String("before", "", "another build of the program, to be measured beside")
)

// grown are the kinds of run that are measured, in their order, each with what somebody
// does before it.
var grown = []string{"copy", "copy, nothing changed", "mirror, first", "mirror, 1% changed", "two-way, first", "two-way, 1% renamed", "clear"}

// TestGrowthFolder measures every kind of run from a folder to a folder, by the number of
// files of 1 KiB, and beside it what cp -r takes: the time of a file must not grow.
func TestGrowthFolder(t *testing.T) {
	if !*growth {
		t.Skip("only with -growth, as make bench-growth does")
	}
	grows(t, "folder", nil)
}

// TestGrowthObjectStore measures the same between two buckets, where a revision tells the
// content and nothing is read once more.
func TestGrowthObjectStore(t *testing.T) {
	if !*growth {
		t.Skip("only with -growth, as make bench-growth does")
	}
	grows(t, "s3", servertest.StartObjectStore(t))
}

func grows(t *testing.T, kind string, server *servertest.ObjectStore) {
	programs := map[string]string{"now": build(t).heron}
	if *before != "" {
		programs["before"] = *before
	}
	perFile := map[string]map[int]float64{} // microseconds, by what and program
	var measured []int
	for _, text := range strings.Split(*sizes, ",") {
		files, err := strconv.Atoi(text)
		if err != nil {
			t.Fatal(err)
		}
		measured = append(measured, files)
		for _, name := range slices.Sorted(maps.Keys(programs)) {
			seconds := growing(t, programs[name], kind, server, files)
			for what, took := range seconds {
				key := what + " (" + name + ")"
				if perFile[key] == nil {
					perFile[key] = map[int]float64{}
				}
				perFile[key][files] = took / float64(files) * 1e6
			}
		}
	}
	fmt.Printf("%s, µs a file, of %v files\n", kind, measured)
	for _, what := range append([]string{"cp -r"}, grown...) {
		for _, name := range slices.Sorted(maps.Keys(programs)) {
			by := perFile[what+" ("+name+")"]
			if by == nil {
				continue
			}
			fmt.Printf("  %-32s", what+" ("+name+")")
			for _, files := range measured {
				fmt.Printf("%12.1f", by[files])
			}
			ratio := by[measured[len(measured)-1]] / by[measured[0]]
			fmt.Printf("   growth %.2f\n", ratio)
			if name == "now" && ratio > 2 {
				t.Errorf("%s, %s: the time of a file grows %.1f-fold from %d files to %d", kind, what, ratio, measured[0], measured[len(measured)-1])
			}
		}
	}
}

// growing carries out each kind of run on a tree of so many files, and returns the
// seconds that each took.
func growing(t *testing.T, program, kind string, server *servertest.ObjectStore, files int) map[string]float64 {
	t.Helper()
	top := scratch(t)
	h, process := serve(t, program, filepath.Join(top, "records"), servertest.FreeAddress(t))
	defer func() {
		process.Process.Signal(syscall.SIGTERM)
		process.Wait()
		os.RemoveAll(top)
	}()
	tree := &grownTree{t: t, root: filepath.Join(top, "source")}
	h.link(contract.Link{Provider: "folder", Name: "disk", Options: map[string]string{"path": top}})
	at := func(name string) string { return "/disk/" + name }
	seconds := map[string]float64{}
	if server != nil {
		source, target := server.Bucket(t), server.Bucket(t)
		for name, bucket := range map[string]string{"source": source, "target": target} {
			h.link(contract.Link{Provider: "s3", Name: name, Secret: server.Secret, Options: map[string]string{"endpoint": server.Endpoint, "bucket": bucket, "key": server.Key}})
		}
		at = func(name string) string {
			if name == "source" {
				return "/source/source"
			}
			return "/target/" + name
		}
		tree.server, tree.core, tree.bucket = server, server.Client(t), source
	}
	tree.fill(files)
	if server == nil {
		begun := time.Now()
		if out, err := exec.Command("cp", "-r", tree.root, filepath.Join(top, "by cp")).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		seconds["cp -r"] = time.Since(begun).Seconds()
		os.RemoveAll(filepath.Join(top, "by cp"))
	}
	create := func(kind, to string) {
		spec := contract.JobSpec{Name: kind, Type: kind, Routes: []contract.Route{{From: at("source"), To: at(to)}}}
		if kind != "migrate" && kind != "copy" {
			spec.Deletions, spec.Brake = "follow", &contract.Brake{Deletions: "none", Overwrites: "none", Older: "none"}
		}
		if kind == "migrate" {
			spec.Migrate = &contract.Migrating{Clear: true}
		}
		if _, err := h.client.CreateJob(t.Context(), spec); err != nil {
			t.Fatal(err)
		}
	}
	run := func(what, job string, most int) {
		begun := time.Now()
		started, err := h.client.StartJob(t.Context(), job)
		if err != nil {
			t.Fatal(err)
		}
		ended, err := h.client.Follow(t.Context(), started.Run, func(contract.Run) {}, nil)
		if err != nil || ended.State != "done" || ended.Items.Failed > 0 {
			t.Fatalf("%s of %d files: %s, %+v, %s, %v", what, files, ended.State, ended.Items, ended.Why, err)
		}
		if what != "" {
			seconds[what] = time.Since(begun).Seconds()
		}
		if most >= 0 && ended.Items.Done != int64(most) {
			t.Logf("%s of %d files: %+v", what, files, ended.Items)
		}
	}
	create("copy", "copied")
	run("copy", "copy", -1)
	run("copy, nothing changed", "copy", 0)
	create("mirror", "mirrored")
	run("mirror, first", "mirror", -1)
	tree.change()
	run("mirror, 1% changed", "mirror", files/100)
	create("two-way", "both")
	run("two-way, first", "two-way", -1)
	tree.rename()
	run("two-way, 1% renamed", "two-way", -1)
	create("migrate", "away")
	for step := range 5 { // survey, first pass, catch-up, final pass, clear
		what := ""
		if step == 4 {
			what = "clear"
		}
		run(what, "migrate", -1)
	}
	if left := tree.left(); left > 0 {
		t.Errorf("%d of %d files were not cleared", left, files)
	}
	return seconds
}

// grownTree is a source of files of 1 KiB, in folders of a hundred, on a disk or in a
// bucket.
type grownTree struct {
	t      *testing.T
	root   string
	server *servertest.ObjectStore
	core   *minio.Core
	bucket string
	names  []string
	writes int
}

func (g *grownTree) fill(files int) {
	for i := range files {
		g.names = append(g.names, fmt.Sprintf("folder %04d/file %06d.bin", i/100, i))
	}
	g.each(g.names, func(name string, content []byte) error { return g.write(name, content) })
}

// each does something with each of some names, eight at a time, and a content that no
// other has.
func (g *grownTree) each(names []string, do func(name string, content []byte) error) {
	g.t.Helper()
	var group sync.WaitGroup
	lanes := make(chan struct{}, 8)
	for _, name := range names {
		g.writes++
		content := bytes.Repeat(fmt.Appendf(nil, "%016d", g.writes), 64)
		lanes <- struct{}{}
		group.Go(func() {
			if err := do(name, content); err != nil {
				g.t.Error(err)
			}
			<-lanes
		})
	}
	group.Wait()
}

func (g *grownTree) write(name string, content []byte) error {
	if g.server != nil {
		_, err := g.core.PutObject(g.t.Context(), g.bucket, "source/"+name, bytes.NewReader(content), int64(len(content)), "", "", minio.PutObjectOptions{DisableContentSha256: true, DisableMultipart: true})
		return err
	}
	path := filepath.Join(g.root, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
		return err
	}
	return os.WriteFile(path, content, 0o666)
}

// some are one name in a hundred.
func (g *grownTree) some() (some []string) {
	for i := 0; i < len(g.names); i += 100 {
		some = append(some, g.names[i])
	}
	return some
}

func (g *grownTree) change() { g.each(g.some(), g.write) }

func (g *grownTree) rename() {
	g.each(g.some(), func(name string, _ []byte) error {
		to := name + " renamed"
		if g.server == nil {
			return os.Rename(filepath.Join(g.root, name), filepath.Join(g.root, to))
		}
		if _, err := g.core.CopyObject(g.t.Context(), g.bucket, "source/"+name, g.bucket, "source/"+to, nil, minio.CopySrcOptions{}, minio.PutObjectOptions{}); err != nil {
			return err
		}
		return g.core.RemoveObject(g.t.Context(), g.bucket, "source/"+name, minio.RemoveObjectOptions{})
	})
}

// left is how many files are there.
func (g *grownTree) left() (files int) {
	root := g.root
	if g.server != nil {
		root = filepath.Join(g.server.Data, g.bucket, "source")
	}
	filepath.WalkDir(root, func(_ string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			files++
		}
		return nil
	})
	return files
}
