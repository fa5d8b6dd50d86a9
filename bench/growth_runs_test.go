package bench

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/demo"
	"deftheron/servertest"
	"deftheron/standin"
)

// growingPlace is a kind of place whose growth is measured.
type growingPlace struct {
	name  string
	sizes []int
	// link links an account that is called place, and is empty; it returns where that is on
	// this machine, if it is.
	link func(t *testing.T, h *heron) string
}

var growingPlaces = []growingPlace{
	{"folder", []int{10_000, 100_000, 1_000_000}, func(t *testing.T, h *heron) string {
		path := scratch(t)
		h.link(contract.Link{Provider: "folder", Name: "place", Options: map[string]string{"path": path}})
		return path
	}},
	{"s3", []int{10_000, 100_000}, func(t *testing.T, h *heron) string {
		server := servertest.StartObjectStore(t)
		h.link(contract.Link{Provider: "s3", Name: "place", Secret: server.Secret,
			Options: map[string]string{"endpoint": server.Endpoint, "bucket": server.Bucket(t), "key": server.Key}})
		return ""
	}},
	{"webdav", []int{10_000, 100_000}, func(t *testing.T, h *heron) string {
		server := servertest.StartApache(t, servertest.ApacheOptions{})
		url, _ := server.Folder(t)
		h.link(contract.Link{Provider: "webdav", Name: "place", Secret: server.Password,
			Options: map[string]string{"url": url, "user": server.User}})
		return ""
	}},
	{"sftp", []int{10_000, 100_000}, func(t *testing.T, h *heron) string {
		server := servertest.StartOpenSSH(t)
		h.link(contract.Link{Provider: "sftp", Name: "place", Secret: server.Password,
			Options: map[string]string{"host": server.Host, "port": server.Port, "user": server.User, "path": server.Folder(t)}})
		return ""
	}},
	{"sedge", []int{10_000, 100_000}, func(t *testing.T, h *heron) string {
		c := startClouds(t)
		consent(t, h, contract.Link{Provider: "sedge", Name: "place", Options: map[string]string{"url": c.SedgeURL, "client-id": "own"},
			Secret: "own-secret"}, "surveys@fenmere.example")
		return ""
	}},
	{"alder", []int{10_000, 100_000}, func(t *testing.T, h *heron) string {
		c := startClouds(t)
		consent(t, h, contract.Link{Provider: "alder", Name: "place", Options: map[string]string{"url": c.AlderURL}}, "office@tolland.example")
		return ""
	}},
}

func startClouds(t *testing.T) *standin.Clouds {
	t.Helper()
	c, err := standin.StartClouds(scratch(t), "127.0.0.1:0", "127.0.0.1:0", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	c.Sedge.Consents.Register(standin.Client{ID: "own", Secret: "own-secret", Redirects: []string{standin.Callback}})
	return c
}

// consent links an account at a cloud, as a person who agrees.
func consent(t *testing.T, h *heron, link contract.Link, user string) {
	t.Helper()
	begun, err := h.client.BeginConsent(t.Context(), contract.Consenting{Link: link, Way: "page"})
	if err == nil {
		err = demo.Agree(t.Context(), begun.URL, user)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// growing measures the runs of one size.
type growing struct {
	t     *testing.T
	h     *heron
	table *growthTable
	files int
	top   string // on this machine; /disk
	place string // on this machine, if it is there; /place
}

// grow carries out each kind of run on a tree of so many files.
func grow(t *testing.T, program string, place growingPlace, files int, table *growthTable) {
	t.Run("", func(t *testing.T) { // so that its servers end with it
		g := &growing{t: t, table: table, files: files, top: scratch(t)}
		h, process := serve(t, program, filepath.Join(scratch(t), "records"), servertest.FreeAddress(t))
		g.h = h
		h.link(contract.Link{Provider: "folder", Name: "disk", Options: map[string]string{"path": g.top}})
		g.place = place.link(t, h)
		tree := newTree(t, filepath.Join(g.top, "source"), files)
		begun := time.Now()
		for _, one := range []struct {
			name string
			do   func()
		}{
			{"copy", func() { g.copies(tree) }}, {"mirror", func() { g.mirrors(tree) }}, {"two-way", g.bothSides},
			{"consolidate", g.consolidates}, {"migrate", g.migrates},
		} {
			if *onlyRuns == "" || slices.Contains(strings.Split(*onlyRuns, ","), one.name) {
				one.do()
			}
		}
		h.rest()
		table.add("all of these, with the search index", time.Since(begun).Seconds(), processorTime(t, h.pid), files)
		table.memory = append(table.memory, h.memory().highest)
		process.Process.Signal(syscall.SIGTERM)
		process.Wait()
	})
}

// measure measures a run by the clock, and the processor time of the service until it rests: the search
// index follows a short run, and goes on beside a long one.
func (g *growing) measure(what string, do func()) {
	g.t.Helper()
	if *growth {
		g.h.rest()
	}
	busy, begun := processorTime(g.t, g.h.pid), time.Now()
	do()
	clock := time.Since(begun).Seconds()
	if *growth {
		g.h.rest()
	}
	used := processorTime(g.t, g.h.pid) - busy
	g.table.add(what, clock, used, g.files)
	if *growth {
		g.t.Logf("%d files, %s: %.0f s, %.0f s of processor time", g.files, what, clock, used)
	}
}

// drop removes what was measured, so that the largest trees have space, where that is not
// another server's work.
func (g *growing) drop(place string) {
	if g.place != "" {
		os.RemoveAll(filepath.Join(g.place, place))
	}
}

// job makes a job that nothing holds, of routes written as "FROM TO".
func (g *growing) job(name, kind string, routes ...string) contract.JobSpec {
	g.t.Helper()
	spec := contract.JobSpec{Name: name, Type: kind}
	for _, route := range routes {
		from, to, _ := strings.Cut(route, " ")
		spec.Routes = append(spec.Routes, contract.Route{From: from, To: to})
	}
	switch kind {
	case "mirror", "two-way":
		spec.Rules.Deletions, spec.Safety = "delete", contract.Safety{Deletions: "none", Overwrites: "none", Older: "none"}
	case "migrate":
		spec.Migrate = contract.Migration{Clear: true}
	}
	if _, err := g.h.client.CreateJob(g.t.Context(), contract.NewJob{Spec: spec}); err != nil {
		g.t.Fatal(err)
	}
	return spec
}

// run runs a job to its end, and holds it to the number of its items; -1 is any.
func (g *growing) run(job string, want int) {
	g.t.Helper()
	started, err := g.h.client.StartJob(g.t.Context(), job)
	if err != nil {
		g.t.Fatal(err)
	}
	ended, err := g.h.client.Follow(g.t.Context(), started.Run, func(contract.Run) {}, nil)
	if err != nil || ended.State != "done" || ended.Items.Failed > 0 {
		for item := range g.h.client.Items(g.t.Context(), started.Run, client.ItemFilter{State: "failed"}) {
			g.t.Logf("%s: %s: %s", item.Address, item.Cause, item.Why)
			break
		}
		g.t.Fatalf("%s of %d files: %s, %+v, %s, %v", job, g.files, ended.State, ended.Items, ended.Why, err)
	}
	if want >= 0 && ended.Items.Done != int64(want) {
		g.t.Errorf("%s of %d files: %+v, want %d", job, g.files, ended.Items, want)
	}
}

func (g *growing) copies(tree *grownTree) {
	g.job("to", "copy", "/disk/source /place/copied")
	g.measure("copy", func() { g.run("to", g.files) })
	g.measure("copy, nothing changed", func() { g.run("to", 0) })
	g.job("from", "copy", "/place/copied /disk/back")
	g.measure("from there: copy", func() { g.run("from", g.files) })
	g.measure("from there: copy, nothing changed", func() { g.run("from", 0) })
	tree.change()
	g.measure("copy, 1% changed", func() { g.run("to", g.files/100) })
	g.measure("from there: copy, 1% changed", func() { g.run("from", g.files/100) })
	os.RemoveAll(filepath.Join(g.top, "back"))
	g.drop("copied")
}

func (g *growing) mirrors(tree *grownTree) {
	g.job("mirror", "mirror", "/disk/source /place/mirrored")
	g.measure("mirror", func() { g.run("mirror", -1) })
	g.job("mirror-back", "mirror", "/place/mirrored /disk/mirrored")
	g.measure("from there: mirror", func() { g.run("mirror-back", -1) })
	tree.remove()
	g.measure("mirror, 10% removed", func() { g.run("mirror", -1) })
	g.measure("from there: mirror, 10% removed", func() { g.run("mirror-back", -1) })
	tree.rename()
	g.measure("mirror, 10% in renamed folders", func() { g.run("mirror", -1) })
	g.measure("from there: mirror, 10% in renamed folders", func() { g.run("mirror-back", -1) })
	os.RemoveAll(filepath.Join(g.top, "mirrored"))
	g.drop("mirrored")
}

// bothSides has 1% changed at each side of a two-way job, and not the same.
func (g *growing) bothSides() {
	tree := newTree(g.t, filepath.Join(g.top, "both"), g.files)
	g.job("both", "two-way", "/disk/both /place/both")
	g.measure("two-way", func() { g.run("both", -1) })
	tree.change()
	tree.each(tree.every(100, 50), func(name string, content []byte) error {
		put(g.t, g.h, "/place/both/"+name, string(content))
		return nil
	})
	g.measure("two-way, 1% changed at each side", func() { g.run("both", g.files/100*2) })
	os.RemoveAll(tree.root)
	g.drop("both")
}

// consolidates puts two trees together, of which half is the same.
func (g *growing) consolidates() {
	first := newTree(g.t, filepath.Join(g.top, "first"), g.files/2)
	second := newTree(g.t, filepath.Join(g.top, "second"), g.files/2)
	second.writes = g.files
	second.each(second.every(2, 0), second.write)
	g.job("together", "consolidate", "/disk/first /place/together", "/disk/second /place/together/more")
	g.measure("consolidate, a quarter twice", func() { g.run("together", -1) })
	os.RemoveAll(first.root)
	os.RemoveAll(second.root)
	g.drop("together")
}

// migrates goes up to the certificate, and then clears the source.
func (g *growing) migrates() {
	tree := newTree(g.t, filepath.Join(g.top, "moving"), g.files)
	g.job("away", "migrate", "/disk/moving /place/away")
	g.measure("migrate, up to its certificate", func() {
		for step := ""; step != "clear"; {
			g.run("away", -1)
			job, err := g.h.client.Job(g.t.Context(), "away")
			if err != nil || job.Migration == nil || job.Migration.Next == step {
				g.t.Fatalf("the migration does not go on after %q: %+v, %v", step, job.Migration, err)
			}
			if step = job.Migration.Next; step == "catch-up" {
				g.run("away", -1) // once for what was too young to be believed
			}
		}
	})
	g.measure("migrate, clear", func() { g.run("away", -1) })
	left := 0
	filepath.WalkDir(tree.root, func(_ string, entry os.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			left++
		}
		return nil
	})
	if left > 0 {
		g.t.Errorf("%d of %d files were not cleared", left, g.files)
	}
}
