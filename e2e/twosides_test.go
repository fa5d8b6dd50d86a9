package e2e

import (
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"testing"

	"deftheron/client"
	"deftheron/contract"
)

var sequences = flag.Int("sequences", 12, "how many random sequences the two stand-ins are kept in sync over")

// people work at one side of two that are kept in sync.
type people struct {
	h      *heron
	root   string
	random *rand.Rand
	writes *int
	// removed are contents that somebody has removed or overwritten; written are all.
	removed, written map[string]bool
}

// files are those of the side, by their paths, with what they hold; folders too.
func (p *people) files() (files map[string]string, folders []string) {
	p.h.t.Helper()
	files = map[string]string{}
	var walk func(address, below string)
	walk = func(address, below string) {
		for entry, err := range p.h.client().List(p.h.t.Context(), address) {
			if err != nil {
				p.h.t.Fatal(err)
			}
			if entry.Kind == "folder" {
				folders = append(folders, below+entry.Name)
				walk(entry.Address, below+entry.Name+"/")
				continue
			}
			content, err := p.h.client().Read(p.h.t.Context(), entry.Address, 0)
			if err != nil {
				p.h.t.Fatal(err)
			}
			text, err := io.ReadAll(content)
			content.Close()
			if err != nil {
				p.h.t.Fatal(err)
			}
			files[below+entry.Name] = string(text)
		}
	}
	walk(p.root, "")
	return files, folders
}

func (p *people) put(below, revision string) {
	p.h.t.Helper()
	*p.writes++
	content := fmt.Sprint("content ", *p.writes)
	p.written[content] = true
	_, err := p.h.client().Write(p.h.t.Context(), client.Upload{Address: p.root + "/" + below, Size: int64(len(content)), Replace: revision,
		Body: strings.NewReader(content)})
	if err != nil {
		p.h.t.Fatalf("put %s: %v", below, err)
	}
}

// operate does one thing, and returns it in words.
func (p *people) operate() string {
	p.h.t.Helper()
	files, folders := p.files()
	var names []string
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	slices.Sort(folders)
	pick := func(from []string) string { return from[p.random.IntN(len(from))] }
	fresh := func() string {
		name := pick([]string{"a.txt", "b.txt", "c d.txt", "é.txt", "sub/a.txt", "sub/deep/b.txt", "other/a.txt"})
		if p.random.IntN(3) == 0 {
			name = path.Join(path.Dir(name), strings.ToUpper(path.Base(name))) // twins by letter case
		}
		return name
	}
	there := func(name string) bool {
		return slices.ContainsFunc(append(names, folders...), func(other string) bool { return strings.EqualFold(other, name) })
	}
	must := func(args ...string) {
		p.h.t.Helper()
		p.h.must(args...)
	}
	switch n := p.random.IntN(10); {
	case n < 4 || len(names) == 0:
		name := fresh()
		if there(name) {
			return ""
		}
		if folder := path.Dir(name); folder != "." {
			must("mkdir", "-p", p.root+"/"+folder)
		}
		p.put(name, "")
		return "create " + name
	case n < 6:
		name := pick(names)
		entry, err := p.h.client().Stat(p.h.t.Context(), p.root+"/"+name)
		if err != nil {
			p.h.t.Fatal(err)
		}
		p.removed[files[name]] = true
		p.put(name, entry.Revision)
		return "change " + name
	case n < 7:
		name := pick(names)
		p.removed[files[name]] = true
		must("rm", p.root+"/"+name, "--yes")
		return "remove " + name
	case n < 9 || len(folders) == 0:
		name, to := pick(names), fresh()
		if there(to) {
			return ""
		}
		if folder := path.Dir(to); folder != "." {
			must("mkdir", "-p", p.root+"/"+folder)
		}
		must("mv", p.root+"/"+name, p.root+"/"+to)
		return "rename " + name + " to " + to
	}
	folder, to := pick(folders), pick([]string{"moved", "sub", "other"})
	if there(to) || strings.HasPrefix(to+"/", folder+"/") {
		return ""
	}
	must("mv", p.root+"/"+folder, p.root+"/"+to)
	return "rename folder " + folder + " to " + to
}

// TestTwoSidesOfDrives does at random what people do at the two stand-ins, of which one
// folds letter case, with runs of a two-way job in between: both sides come to hold the
// same, and every content is there, or was removed by somebody.
func TestTwoSidesOfDrives(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.linkDrives(clouds(t))
	for seed := range *sequences {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			random, writes := rand.New(rand.NewPCG(uint64(seed), 7)), 0
			removed, written := map[string]bool{}, map[string]bool{}
			var sides []*people
			var done []string
			for _, drive := range []string{"field-drive", "office-drive"} {
				side := &people{h: h, root: fmt.Sprintf("/%s/%d", drive, seed), random: random, writes: &writes, removed: removed, written: written}
				h.must("mkdir", side.root)
				sides = append(sides, side)
			}
			name := fmt.Sprint("step-", seed)
			h.must("job", "create", name, "--type", "two-way", "--from", sides[0].root, "--to", sides[1].root,
				"--safety-deletions", "none", "--safety-overwrites", "none", "--safety-older", "none")
			run := func() contract.Run {
				r := h.run("", "job", "start", name, "--json")
				if r.code == 3 { // one side was emptied, and that was meant
					held := h.shownJob(name).Last
					h.must("run", "approve", held.ID)
					h.until(held.ID, "done")
				} else if r.code != 0 {
					t.Fatalf("%s\n%s%s", strings.Join(done, "\n"), r.out, r.err)
				}
				return *h.shownJob(name).Last
			}
			for range 2 + random.IntN(2) {
				for range 1 + random.IntN(6) {
					side := random.IntN(2)
					if what := sides[side].operate(); what != "" {
						done = append(done, []string{"field-drive: ", "office-drive: "}[side]+what)
					}
				}
				run()
				done = append(done, "run")
			}
			run()
			if last := run(); last.Items.Done != 0 {
				t.Errorf("it does not come to rest: %+v", last.Items)
			}
			one, _ := sides[0].files()
			other, _ := sides[1].files()
			contents := func(files map[string]string) (all []string) {
				for _, content := range files {
					all = append(all, content)
				}
				slices.Sort(all)
				return all
			}
			if !slices.Equal(contents(one), contents(other)) {
				t.Errorf("one holds %q, the other %q", one, other)
			}
			for content := range written {
				if !removed[content] && !slices.Contains(contents(one), content) {
					t.Errorf("%q is lost: %q", content, one)
				}
			}
			if t.Failed() {
				t.Logf("seed %d:\n%s", seed, strings.Join(done, "\n"))
			}
		})
	}
}
