package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"strings"
	"testing"

	"deftheron/contract"
	"deftheron/servertest"
)

// crew is two object stores, between which workers copy for the service.
type crew struct {
	*heron
	objects *servertest.ObjectStore
	source  string // a folder with what the source holds
	workers []*workerProcess
}

func newCrew(t *testing.T, files, workers int, args ...string) *crew {
	t.Helper()
	c := &crew{heron: start(t, args...), objects: servertest.StartObjectStore(t), source: filepath.Join(t.TempDir(), "survey")}
	for i := range files {
		writeFile(t, strings.Repeat(fmt.Sprint("reading ", i, "\n"), 1+i%97), c.source, fmt.Sprint("year ", i%7), fmt.Sprint("station ", i, ".csv"))
	}
	c.linkBucket("office", c.objects, c.objects.Bucket(t))
	c.linkBucket("archive", c.objects, c.objects.Bucket(t))
	c.must("put", c.source, "/office")
	for i := range workers {
		name := fmt.Sprint("worker-", i)
		c.workers = append(c.workers, c.worker(name, "far", nil))
		c.must("worker", "grant", name, "office", "archive")
	}
	return c
}

// items are what the workers have copied, by their names.
func (c *crew) all() map[string]contract.Worker {
	c.t.Helper()
	var all []contract.Worker
	if err := json.Unmarshal([]byte(c.must("worker", "list", "--json")), &all); err != nil {
		c.t.Fatal(err)
	}
	named := map[string]contract.Worker{}
	for _, one := range all {
		named[one.Name] = one
	}
	return named
}

// same compares what is at the target with the source.
func (c *crew) arrived(address string) {
	c.t.Helper()
	home := c.t.TempDir()
	c.must("get", address, home)
	if want, got := digest(c.t, c.source), digest(c.t, filepath.Join(home, filepath.Base(address))); !maps.Equal(want, got) {
		c.t.Errorf("%d files there, %d files here, and they differ: %s", len(want), len(got), firstDifference(want, got))
	}
}

// TestWorkersShareARun has two workers copy between two object stores.
func TestWorkersShareARun(t *testing.T) {
	t.Parallel()
	c := newCrew(t, 600, 2)
	writeFile(t, large(40<<20), c.source, "film.bin")
	c.must("put", filepath.Join(c.source, "film.bin"), "/office/survey")
	c.must("worker", "drain", "service")
	run := c.copy("/office/survey", "/archive")
	if run.State != "done" || run.Items.Done != 601 {
		t.Errorf("the run: %+v", run)
	}
	items := map[string]int64{}
	for _, one := range run.Workers {
		items[one.Name] = one.Items
	}
	if items["worker-0"] < 100 || items["worker-1"] < 100 || items["worker-0"]+items["worker-1"] < 600 {
		t.Errorf("the workers copied %v", items)
	}
	c.arrived("/archive/survey")
	leftovers(t, c.objects, c.source)
	if shown := c.must("run", "show", run.ID); !strings.Contains(shown, "worker-1") {
		t.Errorf("who copied is not told:\n%s", shown)
	}
}

// large is a text of some bytes, of which no two pages are the same.
func large(bytes int) string {
	var text strings.Builder
	for i := 0; text.Len() < bytes; i++ {
		fmt.Fprintf(&text, "%015d\n", i)
	}
	return text.String()[:bytes]
}
