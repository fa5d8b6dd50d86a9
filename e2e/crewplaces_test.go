package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
)

// TestWorkersShareEverywhere has two workers, and not the service, mirror an object store to each kind of
// place and back again, twice: the second time files have changed and gone.
func TestWorkersShareEverywhere(t *testing.T) {
	t.Parallel()
	c := newCrew(t, 200, 2)
	writeFile(t, large(12<<20), c.source, "films", "film.bin")
	c.must("put", filepath.Join(c.source, "films"), "/office/survey")
	places := linkServers(t, c.heron)[1:] // without the folder, which no worker reaches
	for i := range c.workers {
		for _, place := range places {
			c.must("worker", "grant", fmt.Sprint("worker-", i), place)
		}
	}
	c.must("worker", "drain", "service")
	for _, place := range places {
		c.must("mkdir", "/"+place+"/survey")
		for i, route := range [][2]string{{"/office/survey", "/" + place + "/survey"}, {"/" + place + "/survey", "/archive/" + place}} {
			c.must("job", "create", fmt.Sprint(place, "-", i), "--type", "mirror", "--from", route[0], "--to", route[1],
				"--safety-deletions", "none", "--safety-overwrites", "none", "--deletions", "delete")
		}
	}
	c.everyPlace(places, 150, func(string) bool { return true })
	for i := range 40 {
		path := filepath.Join(c.source, fmt.Sprint("year ", i%7), fmt.Sprint("station ", i, ".csv"))
		if i < 20 {
			writeFile(t, fmt.Sprint("another reading ", i, "\n"), path)
		} else if err := os.Remove(path); err != nil {
			t.Fatal(err)
		}
	}
	writeFile(t, strings.ToUpper(large(11<<20)), c.source, "films", "film.bin")
	c.must("rm", "/office/survey", "--yes")
	c.must("put", c.source, "/office")
	// Where a revision is no more than a time, the service itself replaces files.
	revisions := []string{"versitygw", "sedge", "alder"}
	c.everyPlace(places, 15, func(place string) bool { return slices.Contains(revisions, place) })
}

// everyPlace mirrors to each place and back, three at a time, and compares what arrived. Workers copy at
// least so many files back, and to the places that are shared.
func (c *crew) everyPlace(places []string, least int64, shared func(place string) bool) {
	c.t.Helper()
	var group sync.WaitGroup
	lanes := make(chan struct{}, 3)
	for _, place := range places {
		group.Go(func() {
			lanes <- struct{}{}
			defer func() { <-lanes }()
			for way := range 2 {
				r := c.run("", "job", "start", fmt.Sprint(place, "-", way), "--json")
				run := c.state(lastRun(r.out))
				byWorkers := int64(0)
				for _, one := range run.Workers {
					byWorkers += one.Items
				}
				if r.code != 0 || run.State != "done" || run.Items.Failed > 0 ||
					(way == 1 || shared(place)) != (byWorkers >= least) {
					c.t.Errorf("%s, way %d: exit %d, %s; workers copied %d of %+v %s", place, way, r.code, run.State, byWorkers, run.Items, r.err)
					return
				}
			}
			c.arrived("/archive/" + place)
		})
	}
	group.Wait()
}
