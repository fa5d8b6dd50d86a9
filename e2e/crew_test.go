package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

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
		writeFile(t, strings.Repeat(fmt.Sprint("reading ", i, "\n"), 1+i%97), c.source, fmt.Sprint("year ", i%7),
			fmt.Sprint("station ", i, ".csv"))
	}
	c.linkBucket("office", c.objects, c.objects.Bucket(t))
	c.linkBucket("archive", c.objects, c.objects.Bucket(t), "--parts-above", "8", "--part-size", "5")
	c.must("put", c.source, "/office")
	for i := range workers {
		name := fmt.Sprint("worker-", i)
		c.workers = append(c.workers, c.worker(name, "far", nil))
		c.must("worker", "grant", name, "office", "archive")
	}
	return c
}

// arrived compares what is at the target with the source.
func (c *crew) arrived(address string) {
	c.t.Helper()
	home := c.t.TempDir()
	c.must("get", address, home)
	if want, got := digest(c.t, c.source), digest(c.t, filepath.Join(home, filepath.Base(address))); !maps.Equal(want, got) {
		c.t.Errorf("%d files there, %d files here, and they differ: %s", len(want), len(got), firstDifference(want, got))
	}
}

// nothingLeft reports uploads that are open, and files of ours.
func (c *crew) nothingLeft() {
	c.t.Helper()
	for _, bucket := range []string{"bucket-1", "bucket-2"} {
		open, err := c.objects.Client(c.t).ListMultipartUploads(c.t.Context(), bucket, "", "", "", "", 1000)
		if err != nil || len(open.Uploads) > 0 {
			c.t.Errorf("%d uploads are left open in %s, %v", len(open.Uploads), bucket, err)
		}
	}
	// A worker that was frozen goes on, and tidies up, or it is tidied up after it.
	for deadline := time.Now().Add(time.Minute); ; <-time.After(100 * time.Millisecond) {
		left := ""
		for name := range digest(c.t, c.objects.Data) {
			if strings.Contains(name, ".heron-arriving") {
				left = name
			}
		}
		if left == "" {
			return
		}
		if time.Now().After(deadline) {
			c.t.Errorf("left behind: %s", left)
			return
		}
	}
}

// TestWorkersShareARun has two workers copy between two object stores.
func TestWorkersShareARun(t *testing.T) {
	t.Parallel()
	c := newCrew(t, 600, 2)
	writeFile(t, large(40<<20), c.source, "film.bin")
	c.must("put", filepath.Join(c.source, "film.bin"), "/office/survey")
	if plan := c.must("copy", "/office/survey", "/archive", "--plan"); !strings.Contains(plan, "workers worker-0, worker-1 copy") {
		t.Errorf("the plan does not say who copies:\n%s", plan)
	}
	c.must("worker", "drain", "service")
	run := c.copy("/office/survey", "/archive")
	if run.State != "done" || run.Items.Done != 601 {
		t.Errorf("the run: %+v", run)
	}
	items := map[string]int64{}
	for _, one := range run.Workers {
		items[one.Name] = one.Items
	}
	if sum := items["worker-0"] + items["worker-1"]; sum > run.Items.Done {
		t.Errorf("workers copied %d items of %d", sum, run.Items.Done)
	}
	if items["worker-0"] < 100 || items["worker-1"] < 100 || items["worker-0"]+items["worker-1"] < 600 {
		t.Errorf("the workers copied %v", items)
	}
	c.arrived("/archive/survey")
	c.nothingLeft()
	for i := range c.workers {
		c.must("worker", "revoke", fmt.Sprint("worker-", i), "archive")
	}
	if again := c.copy("/office/survey", "/archive/again"); len(again.Workers) > 0 {
		t.Errorf("workers copied what they may not have: %+v", again.Workers)
	}
	if r := c.run("", "worker", "grant", "worker-0", "nothing"); r.code == 0 {
		t.Error("an account was granted that does not exist")
	}
	c.linkFolder("desk", t.TempDir())
	if r := c.run("", "worker", "grant", "worker-0", "desk"); r.code == 0 || !strings.Contains(r.err, "folder of the machine of the service") {
		t.Errorf("a folder of the service was granted: %+v", r)
	}
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

// TestCrewKills keeps an object store in sync with another, whose files change from round to round, while
// the service and the workers that copy for it are killed, frozen and ended at random: what arrives is
// whole and equal, nothing is left over, and nothing is recorded twice. With -everywhere there are 100
// rounds.
func TestCrewKills(t *testing.T) {
	t.Parallel()
	rounds := 2
	if *everywhere {
		rounds = 100
	}
	c := newCrew(t, 300, 4)
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 0))
	c.must("job", "create", "surveys", "--type", "mirror", "--from", "/office/survey", "--to", "/archive/survey", "--deletions", "delete",
		"--safety-deletions", "none", "--safety-overwrites", "none")
	byWorkers := int64(0)
	for round := range rounds {
		if round%2 == 0 { // else the service copies too
			c.must("worker", "drain", "service")
		} else {
			c.must("worker", "resume", "service")
		}
		c.change(random, round)
		var started struct{ Run string }
		if err := json.Unmarshal([]byte(c.must("job", "start", "surveys", "--detach", "--json")), &started); err != nil {
			t.Fatal(err)
		}
		if round%2 == 0 { // the workers have begun
			for deadline := time.Now().Add(10 * time.Second); len(c.state(started.Run).Workers) == 0 && time.Now().Before(deadline); {
				<-time.After(5 * time.Millisecond)
			}
		}
		for range 4 {
			<-time.After(time.Duration(random.IntN(300)) * time.Millisecond)
			c.disturb(random)
		}
		run := c.until(started.Run, "done")
		if run.Items.Failed > 0 || run.Items.Waiting > 0 {
			t.Errorf("round %d: %+v", round, run.Items)
		}
		copied := int64(0)
		for _, one := range run.Workers {
			copied += one.Items
		}
		if copied > run.Items.Done+run.Items.Skipped {
			t.Errorf("round %d: workers copied %d items of %d", round, copied, run.Items.Done)
		}
		byWorkers += copied
		c.arrived("/archive/survey")
		c.nothingLeft()
		if t.Failed() {
			t.Fatal(c.log)
		}
	}
	if t.Logf("workers copied %d items in %d rounds", byWorkers, rounds); byWorkers == 0 {
		t.Error("no worker copied anything")
	}
}

// change changes some of what is at the source, removes some, and adds some.
func (c *crew) change(random *rand.Rand, round int) {
	c.t.Helper()
	for i := range 300 {
		path := []string{c.source, fmt.Sprint("year ", i%7), fmt.Sprint("station ", i, ".csv")}
		switch random.IntN(6) {
		case 0:
			_ = os.Remove(filepath.Join(path...))
		case 1, 2, 3:
			writeFile(c.t, strings.Repeat(fmt.Sprint("round ", round, " reading ", i, "\n"), 1+random.IntN(900)), path...)
		}
	}
	for i := range 3 {
		writeFile(c.t, fmt.Sprint(round)+large(random.IntN(30<<20)), c.source, "films", fmt.Sprint(i, ".bin"))
	}
	writeFile(c.t, "always", c.source, "always.txt")
	c.run("", "rm", "/office/survey", "--yes")
	c.must("put", c.source, "/office")
}

// disturb kills, freezes or ends a worker, or kills the service.
func (c *crew) disturb(random *rand.Rand) {
	c.t.Helper()
	w := c.workers[random.IntN(len(c.workers))]
	switch random.IntN(5) {
	case 0:
		c.end(syscall.SIGKILL)
		c.serve()
	case 1:
		if err := w.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
			c.t.Fatal(err)
		}
		process := w.cmd.Process
		time.AfterFunc(time.Duration(random.IntN(4000))*time.Millisecond, func() { _ = process.Signal(syscall.SIGCONT) })
	case 2:
		if err := w.cmd.Process.Signal(syscall.SIGCONT); err != nil {
			c.t.Fatal(err)
		}
		w.end(syscall.SIGTERM)
		w.start()
	default:
		w.end(syscall.SIGKILL)
		w.start()
	}
}

// TestWorkersWithMessageServers has units be kept by a message server outside, which does as it pleases:
// the records are what counts.
func TestWorkersWithMessageServers(t *testing.T) {
	t.Parallel()
	for name, one := range map[string]struct {
		servers int
		disturb func(t *testing.T, servers *servertest.NATS, round int)
	}{
		"one":                {1, nil},
		"one without room":   {0, nil},
		"one that is killed": {1, func(_ *testing.T, servers *servertest.NATS, _ int) { servers.Kill(0) }},
		"three, of which each is killed once": {3, func(t *testing.T, servers *servertest.NATS, round int) {
			if round > 0 {
				servers.Start(t, round-1)
			}
			servers.Kill(round)
		}},
		"one that loses all units": {1, func(t *testing.T, servers *servertest.NATS, _ int) { loseUnits(t, servers) }},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			servers := servertest.StartFullNATS
			if one.servers > 0 {
				servers = func(t testing.TB) *servertest.NATS { return servertest.StartNATS(t, one.servers) }
			}
			messages := servers(t)
			c := newCrew(t, 400, 2, "--nats", messages.URL)
			c.must("worker", "drain", "service")
			for round := range 3 {
				target := fmt.Sprint("/archive/", round)
				var started struct{ Run string }
				if err := json.Unmarshal([]byte(c.must("copy", "/office/survey", target, "--detach", "--json")), &started); err != nil {
					t.Fatal(err)
				}
				if one.disturb != nil && (round < one.servers) {
					<-time.After(100 * time.Millisecond)
					one.disturb(t, messages, round)
				}
				run := c.until(started.Run, "done")
				if run.Items.Done != 400 || len(run.Workers) == 0 {
					t.Errorf("round %d: %+v, by %+v", round, run.Items, run.Workers)
				}
				c.arrived(target + "/survey")
			}
			if strings.Contains(fmt.Sprint(c.log), "secret") {
				t.Error("the log has the password of the message server")
			}
		})
	}
}

// loseUnits deletes what a message server keeps.
func loseUnits(t *testing.T, servers *servertest.NATS) {
	t.Helper()
	connection, err := nats.Connect(servers.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer connection.Close()
	js, err := jetstream.New(connection)
	if err != nil {
		t.Fatal(err)
	}
	for name := range js.StreamNames(t.Context()).Name() {
		if err := js.DeleteStream(t.Context(), name); err != nil {
			t.Error(err)
		}
	}
}

// TestWorkersWithClouds has a worker copy to and between cloud drives with tokens that end every few
// seconds, which the service renews.
func TestWorkersWithClouds(t *testing.T) {
	t.Parallel()
	c := newCrew(t, 250, 1)
	drives := clouds(t)
	drives.Sedge.Consents.Lifetime = 3 * time.Second
	c.linkDrives(drives)
	c.must("worker", "grant", "worker-0", "field-drive", "office-drive")
	c.must("worker", "drain", "service")
	for _, route := range [][2]string{{"/office/survey", "/field-drive/from"}, {"/field-drive/from/survey", "/office-drive/there"},
		{"/office-drive/there/survey", "/archive/back"}} {
		run := c.copy(route[0], route[1])
		if run.Items.Done != 250 || len(run.Workers) != 1 || run.Workers[0].Items < 200 {
			t.Errorf("%v: %+v, by %+v", route, run.Items, run.Workers)
		}
		<-time.After(4 * time.Second) // the tokens end
	}
	c.arrived("/archive/back/survey")
}

// TestWorkersKeepToLimits has workers share the bandwidth of a run.
func TestWorkersKeepToLimits(t *testing.T) {
	t.Parallel()
	c := newCrew(t, 1, 2)
	for i := range 16 {
		writeFile(t, large(1<<20), c.source, fmt.Sprint("film ", i))
	}
	c.must("put", c.source, "/office", "--yes")
	c.must("worker", "drain", "service")
	c.must("bandwidth", "set", "archive", "--up", "4MiB/s")
	begun := time.Now()
	run := c.copy("/office/survey", "/archive")
	took := time.Since(begun).Seconds()
	if run.Items.Done != 17 || len(run.Workers) != 2 {
		t.Errorf("%+v, by %+v", run.Items, run.Workers)
	}
	if took < 2.5 {
		t.Errorf("16 MiB took %.1f s at 4 MiB/s", took)
	}
	c.arrived("/archive/survey")
	c.must("bandwidth", "set", "archive")
	c.must("bandwidth", "set", "--site", "far", "--up", "4MiB/s")
	if r := c.run("", "bandwidth", "set", "--site", "near", "--up", "4MiB/s"); r.code == 0 {
		t.Error("a site has a limit that does not exist")
	}
	if shown := c.must("bandwidth", "show"); !strings.Contains(shown, "site far") {
		t.Errorf("the limit of the site is not shown:\n%s", shown)
	}
	begun = time.Now()
	c.copy("/office/survey", "/archive/again")
	if took := time.Since(begun).Seconds(); took < 2.5 {
		t.Errorf("16 MiB took %.1f s at 4 MiB/s of the site", took)
	}
}

// TestWorkersOnBadNetworks has a worker in a network of its own that drops packets, or lets them through in
// one direction only: the run ends well, whoever copies in the end.
func TestWorkersOnBadNetworks(t *testing.T) {
	t.Parallel()
	for name, rules := range map[string]func(port string) []string{
		"every third packet is dropped": func(port string) []string {
			return []string{"tcp dport " + port + " numgen inc mod 3 0 drop", "tcp sport " + port + " numgen inc mod 3 0 drop"}
		},
		"nothing reaches the service": func(port string) []string { return []string{"tcp dport " + port + " drop"} },
		"nothing reaches the worker":  func(port string) []string { return []string{"tcp sport " + port + " drop"} },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			network := servertest.NewNetwork(t)
			c := newCrew(t, 400, 0)
			network.Relay(c.listen, c.listen)
			objects := strings.TrimPrefix(c.objects.Endpoint, "http://")
			network.Relay(objects, objects)
			c.worker("far-away", "far", network)
			c.must("worker", "grant", "far-away", "office", "archive")
			c.must("worker", "drain", "service")
			_, port, _ := strings.Cut(c.listen, ":")
			rounds := 1
			if *everywhere {
				rounds = 3
			}
			for round := range rounds {
				target := fmt.Sprint("/archive/", round)
				var started struct{ Run string }
				if err := json.Unmarshal([]byte(c.must("copy", "/office/survey", target, "--detach", "--json")), &started); err != nil {
					t.Fatal(err)
				}
				<-time.After(time.Duration(50*round) * time.Millisecond)
				network.Filter(rules(port)...)
				<-time.After(20 * time.Second) // longer than a worker may be silent
				network.Filter()
				run := c.until(started.Run, "done")
				if run.Items.Done != 400 {
					t.Errorf("round %d: %+v", round, run.Items)
				}
				c.arrived(target + "/survey")
				c.workerIs("far-away", "connected")
			}
			c.nothingLeft()
		})
	}
}
