package bench

import (
	"bytes"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"deftheron/servertest"
)

var (
	growth = flag.Bool("growth", false, "run what measures how the time of a file grows with their number")
	sizes  = flag.String("sizes", "", "of the trees whose growth is measured, in place of those that each kind of place is measured with")
	only   = flag.String("places", "folder,s3,webdav,sftp,sedge,alder", "kinds of places whose growth is measured")
	// onlyRuns makes sizes affordable at which all runs take days.
	onlyRuns = flag.String("runs", "", "runs whose growth is measured, in place of all: copy, mirror, two-way, consolidate, migrate")
	before   = flag.String("before", "", "another build of the program, to be measured beside")
)

// mostGrowth is how much longer a file may take in the largest tree than in the smallest.
const mostGrowth = 1.3

// TestGrowth measures every kind of run, with each kind of place as the target and as the
// source of a folder of this machine, by the number of files of 1 KiB: the time of a file
// must not grow, nor the memory.
func TestGrowth(t *testing.T) {
	if !*growth {
		t.Skip("only with -growth, as make bench-growth does")
	}
	programs := map[string]string{"now": build(t).heron}
	if *before != "" {
		programs["before"] = *before
	}
	kinds := strings.Split(*only, ",")
	for _, place := range growingPlaces {
		if !slices.Contains(kinds, place.name) {
			continue
		}
		t.Run(place.name, func(t *testing.T) {
			measured := place.sizes
			if *sizes != "" {
				measured = numbers(t, *sizes)
			}
			for _, name := range slices.Sorted(maps.Keys(programs)) {
				table := newGrowthTable(place.name, name, measured)
				for _, files := range measured {
					grow(t, programs[name], place, files, table)
				}
				if !t.Failed() {
					table.print(t)
				}
			}
		})
	}
}

// TestTimeIsEven is the short form of TestGrowth: a folder alone, and small trees, in which
// a quadratic path still shows. It measures the service's processor time, because other
// tests run beside it and the clock counts them too.
func TestTimeIsEven(t *testing.T) {
	if *growth || *run || *soak {
		t.Skip("its long form is measured")
	}
	const most = 3 // a quadratic path would show 8
	program := filepath.Join(servertest.Root(), "bin", "heron")
	if _, err := os.Stat(program); err != nil {
		program = build(t).heron
	}
	table := newGrowthTable("folder", "now", []int{500, 4_000})
	for _, files := range table.sizes {
		grow(t, program, growingPlaces[0], files, table)
	}
	for _, what := range table.order {
		t.Logf("%s: %.0f µs", what, table.busy[what])
		if took := table.busy[what]; took[1] > most*took[0] {
			t.Errorf("%s takes %.0f µs of processor time a file for %d files, and %.0f µs for %d", what, took[0], table.sizes[0], took[1],
				table.sizes[1])
		}
	}
}

func numbers(t *testing.T, text string) (all []int) {
	t.Helper()
	for _, one := range strings.Split(text, ",") {
		n, err := strconv.Atoi(one)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, n)
	}
	return all
}

// growthTable is what was measured of a kind of place: by kind of run and size, the
// microseconds of a file of the tree, by the clock and of the service's processor time.
type growthTable struct {
	place, program string
	sizes          []int
	order          []string
	clock, busy    map[string][]float64
	memory         []float64 // MiB, at the highest
}

func newGrowthTable(place, program string, sizes []int) *growthTable {
	return &growthTable{place: place, program: program, sizes: sizes, clock: map[string][]float64{}, busy: map[string][]float64{}}
}

func (g *growthTable) add(what string, clock, busy float64, files int) {
	if g.clock[what] == nil {
		g.order = append(g.order, what)
	}
	g.clock[what] = append(g.clock[what], clock/float64(files)*1e6)
	g.busy[what] = append(g.busy[what], busy/float64(files)*1e6)
}

func (g *growthTable) print(t *testing.T) {
	fmt.Printf("%s, %s: µs a file by the clock, and of the service's processor time, of trees of %v files\n", g.place, g.program, g.sizes)
	line := func(what string, most float64, columns ...[]float64) {
		fmt.Printf("  %-42s", what)
		for i, values := range columns {
			for _, value := range values {
				fmt.Printf("%9.1f", value)
			}
			grown := values[len(values)-1] / values[0]
			word := ""
			if grown > most {
				word = fmt.Sprintf("  NOT MET: promised ≤ %.1f", most)
			}
			fmt.Printf("  growth %.2f%s", grown, word)
			if i == len(columns)-1 && g.program == "now" && grown > 2 {
				t.Errorf("%s, %s: grows %.1f-fold from %d files to %d", g.place, what, grown, g.sizes[0], g.sizes[len(g.sizes)-1])
			}
		}
		fmt.Println()
	}
	for _, what := range g.order {
		line(what, mostGrowth, g.clock[what], g.busy[what])
	}
	line("memory at its highest, MiB", 1.1, g.memory)
}

// grownTree is a source of files of 1 KiB on this machine, in folders of a hundred, each
// with a content that no other has.
type grownTree struct {
	t      *testing.T
	root   string
	names  []string
	writes int
}

func newTree(t *testing.T, root string, files int) *grownTree {
	t.Helper()
	g := &grownTree{t: t, root: root}
	for i := range files {
		g.names = append(g.names, fmt.Sprintf("folder %05d/file %07d.bin", i/100, i))
	}
	g.each(g.names, g.write)
	return g
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
	path := filepath.Join(g.root, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
		return err
	}
	return os.WriteFile(path, content, 0o666)
}

// every is each n-th name, from one on.
func (g *grownTree) every(n, from int) (some []string) {
	for i := from; i < len(g.names); i += n {
		some = append(some, g.names[i])
	}
	return some
}

// change writes one file in a hundred again.
func (g *grownTree) change() { g.each(g.every(100, 0), g.write) }

// remove removes one folder in ten.
func (g *grownTree) remove() {
	g.t.Helper()
	folders := map[string]bool{}
	for i := 0; i < len(g.names); i += 1000 {
		folders[filepath.Dir(g.names[i])] = true
	}
	for folder := range folders {
		if err := os.RemoveAll(filepath.Join(g.root, folder)); err != nil {
			g.t.Fatal(err)
		}
	}
	g.names = slices.DeleteFunc(g.names, func(name string) bool { return folders[filepath.Dir(name)] })
}

// rename renames one folder in ten.
func (g *grownTree) rename() {
	g.t.Helper()
	renamed := map[string]string{}
	for i := 100; i < len(g.names); i += 1000 {
		folder := filepath.Dir(g.names[i])
		renamed[folder] = folder + " renamed"
	}
	for from, to := range renamed {
		if err := os.Rename(filepath.Join(g.root, from), filepath.Join(g.root, to)); err != nil {
			g.t.Fatal(err)
		}
	}
	for i, name := range g.names {
		if to := renamed[filepath.Dir(name)]; to != "" {
			g.names[i] = filepath.Join(to, filepath.Base(name))
		}
	}
}
