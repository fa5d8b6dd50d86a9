package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
)

// workerProcess is a worker that runs, or ran.
type workerProcess struct {
	env     []string // nil: that of the test
	t       *testing.T
	data    string
	args    []string
	network *servertest.Network // nil runs it in the machine's network
	cmd     *exec.Cmd
	log     *logged
}

// worker creates a worker at a site, has it join, and starts it. It runs in a network of its own
// if one is given, where the address of the service leads to it.
func (h *heron) worker(name, site string, network *servertest.Network, args ...string) *workerProcess {
	h.t.Helper()
	var code contract.WorkerCode
	if err := json.Unmarshal([]byte(h.must("worker", "create", name, "--site", site, "--json")), &code); err != nil {
		h.t.Fatal(err)
	}
	w := &workerProcess{t: h.t, data: filepath.Join(h.t.TempDir(), name), args: args, network: network}
	join := w.command("worker", "join", code.URL, code.Code, "--data", w.data)
	w.begin(join)
	if err := join.Wait(); err != nil {
		h.t.Fatalf("the worker did not join: %v\n%s", err, w.log)
	}
	w.start()
	h.workerIs(name, "connected")
	return w
}

func (w *workerProcess) command(args ...string) *exec.Cmd {
	w.log = &logged{}
	command := exec.Command(program, args...)
	command.Stdout, command.Stderr, command.Env = w.log, w.log, w.env
	return command
}

func (w *workerProcess) begin(command *exec.Cmd) {
	w.t.Helper()
	if w.network != nil {
		w.network.Start(command)
	} else if err := command.Start(); err != nil {
		w.t.Fatal(err)
	}
}

func (w *workerProcess) start() {
	w.t.Helper()
	w.cmd = w.command(append([]string{"worker", "--data", w.data}, w.args...)...)
	w.begin(w.cmd)
	command := w.cmd
	w.t.Cleanup(func() {
		if command.ProcessState == nil {
			_ = command.Process.Kill()
			_ = command.Wait()
		}
	})
}

// end ends the worker with a signal.
func (w *workerProcess) end(signal syscall.Signal) {
	w.t.Helper()
	if err := w.cmd.Process.Signal(signal); err != nil {
		w.t.Fatal(err)
	}
	_ = w.cmd.Wait()
}

// workerIs waits until a worker has a state.
func (h *heron) workerIs(name, state string) {
	h.t.Helper()
	for deadline := time.Now().Add(longestWait); ; <-time.After(20 * time.Millisecond) {
		var all []contract.Worker
		if err := json.Unmarshal([]byte(h.must("worker", "list", "--json")), &all); err != nil {
			h.t.Fatal(err)
		}
		for _, one := range all {
			if one.Name == name && one.State == state {
				return
			}
		}
		if time.Now().After(deadline) {
			h.t.Fatalf("the worker %s is not %s: %+v\n%s", name, state, all, h.log)
		}
	}
}

// premises are a file server that only a worker reaches: in a network of its own, in which the address
// of the service leads to the service.
type premises struct {
	network   *servertest.Network
	toService *servertest.Relay
	shell     *servertest.Shell
	place     string // where the server's files are on this machine
	options   []string
}

func newPremises(t *testing.T, h *heron) *premises {
	t.Helper()
	p := &premises{network: servertest.NewNetwork(t), shell: servertest.StartOpenSSH(t)}
	p.toService = p.network.Relay(h.listen, h.listen)
	p.network.Relay("127.0.0.1:22", p.shell.Host+":"+p.shell.Port)
	p.place = p.shell.Folder(t)
	p.options = []string{"--host", "127.0.0.1", "--port", "22", "--user", p.shell.User, "--path", p.place}
	return p
}

// link links the file server through its site.
func (p *premises) link(h *heron, name string) {
	h.t.Helper()
	h.link(p.shell.Password, append([]string{"sftp", name, "--at", "premises"}, p.options...)...)
}

// TestWorkerInItsNetwork migrates a file server that only a worker reaches to an object store. While
// it goes, the worker is killed, cut off, and ended; the run waits, and goes on.
func TestWorkerInItsNetwork(t *testing.T) {
	t.Parallel()
	h := start(t)
	p := newPremises(t, h)
	alone := append([]string{"account", "link", "sftp", "office", "--secret-file", "-"}, p.options...)
	if r := h.run(p.shell.Password, alone...); r.code == 0 {
		t.Fatal("the service reaches the file server without a worker")
	}
	w := h.worker("gauge-house", "premises", p.network)
	for i, name := range []string{"Müller é.txt", "emoji 🐦.txt", "two  blanks", "#+&;.csv"} {
		writeFile(t, strings.Repeat(name, i), p.place, "project", name)
	}
	for i := range 300 {
		writeFile(t, strings.Repeat(fmt.Sprint("reading ", i, "\n"), i), p.place, "project", fmt.Sprint("year ", i%7), fmt.Sprint(i, ".csv"))
	}
	p.link(h, "office")
	if account := h.account("office"); account.Site != "premises" || account.Found != nil && account.Found.Owner == "" {
		t.Errorf("the account: %+v", account)
	}
	objects := servertest.StartObjectStore(t)
	h.linkBucket("archive", objects, objects.Bucket(t))
	h.must("job", "create", "away", "--type", "migrate", "--from", "/office/project", "--to", "/archive/project")
	if survey := h.job("away", 0); survey.Step != "survey" {
		t.Errorf("the survey: %+v", survey)
	}
	var started struct{ Run string }
	if err := json.Unmarshal([]byte(h.must("job", "start", "away", "--detach", "--json")), &started); err != nil {
		t.Fatal(err)
	}
	for n, disturb := range []func(){
		func() { w.end(syscall.SIGKILL); h.workerIs("gauge-house", "offline"); w.start() },
		func() { p.toService.SetDown(true); h.workerIs("gauge-house", "offline"); p.toService.SetDown(false) },
		func() { w.end(syscall.SIGTERM); w.start() },
	} {
		for h.state(started.Run).Items.Done < int64(40*(n+1)) && !h.state(started.Run).State.Ended() {
			<-time.After(5 * time.Millisecond)
		}
		disturb()
		h.workerIs("gauge-house", "connected")
	}
	run := h.until(started.Run, "done")
	if run.Items.Failed > 0 {
		t.Errorf("the first pass: %+v", run)
	}
	final := h.job("away", 0)
	for range 3 {
		if final.Step == "final-pass" {
			break
		}
		final = h.job("away", 0)
	}
	if made := h.shownJob("away").Migration.Certificate; made == nil || made.Unverified.Items > 0 {
		t.Errorf("the certificate: %+v", made)
	}
	home := t.TempDir()
	h.must("get", "/archive/project", home)
	if want, got := digest(t, filepath.Join(p.place, "project")), digest(t, filepath.Join(home, "project")); !maps.Equal(want, got) {
		t.Errorf("%d files there, %d files here, and they differ: %s", len(want), len(got), firstDifference(want, got))
	}
	leftovers(t, objects, p.place)
}

// firstDifference names a file in which two trees differ.
func firstDifference(want, got map[string]string) string {
	for name, sum := range want {
		if got[name] != sum {
			return name
		}
	}
	for name := range got {
		if _, ok := want[name]; !ok {
			return name
		}
	}
	return ""
}

// TestSiteKills copies from a site to an object store and back to the site, while the worker and the
// service are killed at random: what arrives is whole and equal, and nothing is left over. With
// -everywhere it does so 100 times.
func TestSiteKills(t *testing.T) {
	t.Parallel()
	rounds := 1
	if *everywhere {
		rounds = 100
	}
	h := start(t)
	p := newPremises(t, h)
	w := h.worker("gauge-house", "premises", p.network)
	p.link(h, "office")
	objects := servertest.StartObjectStore(t)
	h.linkBucket("archive", objects, objects.Bucket(t))
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 0))
	for i := range 150 {
		writeFile(t, strings.Repeat(fmt.Sprint(i), random.IntN(20_000)), p.place, "seed", fmt.Sprint("d", i%5), fmt.Sprint(i, ".bin"))
	}
	want := digest(t, filepath.Join(p.place, "seed"))
	for round := range rounds {
		target := fmt.Sprint("/archive/round-", round)
		h.killed(t, w, random, "copy", "/office/seed", target)
		back := fmt.Sprint("/office/back-", round)
		h.killed(t, w, random, "copy", target+"/seed", back)
		if got := digest(t, filepath.Join(p.place, fmt.Sprint("back-", round), "seed")); !maps.Equal(want, got) {
			t.Fatalf("round %d: %d files went, %d came back, and they differ: %s", round, len(want), len(got), firstDifference(want, got))
		}
		leftovers(t, objects, p.place)
	}
}

// killed has a command make a run, during which the worker and the service are killed at random, and
// waits until the run is done.
func (h *heron) killed(t *testing.T, w *workerProcess, random *rand.Rand, command ...string) {
	t.Helper()
	var started struct{ Run string }
	if err := json.Unmarshal([]byte(h.must(append(command, "--detach", "--json")...)), &started); err != nil {
		t.Fatal(err)
	}
	for range 3 {
		<-time.After(time.Duration(random.IntN(150)) * time.Millisecond)
		if random.IntN(2) == 0 {
			w.end(syscall.SIGKILL)
			w.start()
		} else {
			h.end(syscall.SIGKILL)
			h.serve()
		}
	}
	h.workerIs("gauge-house", "connected")
	if run := h.until(started.Run, "done"); run.Items.Failed > 0 {
		t.Errorf("%v: %+v", command, run.Items)
	}
}

// TestWorkerCommands looks after a worker by commands.
func TestWorkerCommands(t *testing.T) {
	t.Parallel()
	h := start(t)
	if out := h.must("worker", "list"); !strings.Contains(out, "heron worker create") {
		t.Errorf("without workers: %s", out)
	}
	shown := t.TempDir()
	writeFile(t, "stage 1.2 m", shown, "weir.csv")
	w := h.worker("gauge-house", "premises", nil, "--folders", shown)
	h.must("account", "link", "folder", "gauges", "--path", shown, "--at", "premises")
	if out := h.must("cat", "/gauges/weir.csv"); out != "stage 1.2 m" {
		t.Errorf("read through the worker: %q", out)
	}
	h.says("", 2, "not below a folder", "account", "link", "folder", "etc", "--path", "/etc", "--at", "premises")
	if out := h.must("worker", "list"); !strings.Contains(out, "connected") || !strings.Contains(out, "gauges") {
		t.Errorf("the list: %s", out)
	}
	h.must("worker", "drain", "gauge-house")
	h.says("", 1, "No worker of the site premises is connected", "cat", "/gauges/weir.csv")
	h.must("worker", "resume", "gauge-house")
	h.must("worker", "rename", "gauge-house", "weir-house")
	h.must("ls", "/gauges")
	w.end(syscall.SIGTERM)
	h.workerIs("weir-house", "offline")
	h.says("", 1, "heron worker list", "cat", "/gauges/weir.csv")
	h.says("", 1, "Unlink", "worker", "remove", "weir-house", "--yes")
	h.must("account", "unlink", "gauges", "--yes")
	h.must("worker", "remove", "weir-house", "--yes")
	w.start()
	if err := w.cmd.Wait(); err == nil || !strings.Contains(w.log.String(), "does not know the worker") {
		t.Errorf("a removed worker: %v\n%s", err, w.log)
	}
}

// TestWorkerManagers has operators manage a worker, and not another.
func TestWorkerManagers(t *testing.T) {
	t.Parallel()
	h := start(t)
	h.must("worker", "create", "gauge-house", "--site", "premises")
	h.must("worker", "create", "boat-house")
	for _, name := range []string{"field-technician", "night-technician"} {
		h.addUser(name, "operator")
	}
	h.addUser("auditor", "viewer")
	h.says("", 1, "There is no user", "worker", "assign", "gauge-house", "nobody")
	h.says("", 1, "role viewer", "worker", "assign", "gauge-house", "auditor")
	h.says("", 1, "role owner", "worker", "assign", "gauge-house", "owner")
	h.says("", 1, "no worker", "worker", "assign", "weir-house", "field-technician")
	if out := h.must("worker", "list"); strings.Contains(out, "MANAGERS") {
		t.Errorf("a column is empty: %s", out)
	}
	h.says("", 0, "managed by the owners, field-technician", "worker", "assign", "gauge-house", "field-technician")
	if out := h.must("worker", "list"); !strings.Contains(out, "MANAGERS") || !strings.Contains(out, "field-technician") {
		t.Errorf("the list names no manager: %s", out)
	}
	technician, other := h.signIn("field-technician"), h.signIn("night-technician")
	const change, code = "/api/v1/workers/gauge-house", "/api/v1/workers/gauge-house/code"
	for _, c := range []struct {
		who                someone
		method, path, body string
		status             int
	}{
		{technician, "PATCH", change, `{"draining":true}`, 200},
		{technician, "POST", code, "", 201},
		{technician, "PATCH", change, `{"grant":["archive"]}`, 403},
		{technician, "PATCH", change, `{"assign":["night-technician"]}`, 403},
		{technician, "DELETE", change, "", 403},
		{technician, "PATCH", "/api/v1/workers/boat-house", `{"draining":true}`, 403},
		{technician, "PATCH", "/api/v1/workers/weir-house", `{"draining":true}`, 403},
		{other, "PATCH", change, `{"draining":false}`, 403},
		{other, "POST", code, "", 403},
	} {
		if status, text := h.as(c.who, c.method, c.path, c.body); status != c.status {
			t.Errorf("%s: %s %s %s: %d, want %d: %s", c.who.name, c.method, c.path, c.body, status, c.status, text)
		}
	}
	for who, manages := range map[someone]string{technician: `"managers":["field-technician"],"manage":true`, other: `"managers":[],"manage":false`} {
		if _, text := h.as(who, "GET", "/api/v1/workers", ""); !strings.Contains(text, manages) {
			t.Errorf("%s sees %s, and not %s", who.name, text, manages)
		}
	}
	h.must("worker", "unassign", "gauge-house", "field-technician")
	if status, text := h.as(technician, "PATCH", change, `{"draining":true}`); status != 403 {
		t.Errorf("no longer assigned: %d %s", status, text)
	}
	h.must("worker", "assign", "gauge-house", "night-technician")
	h.must("user", "remove", "night-technician", "--yes")
	if out := h.must("worker", "list", "--json"); strings.Contains(out, "night-technician") {
		t.Errorf("a removed user manages still: %s", out)
	}
}

// TestConsoleWorkers creates a worker in the console, has it join by what the page shows, links an account
// through it, and removes it.
func TestConsoleWorkers(t *testing.T) {
	t.Parallel()
	h := start(t)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Link an account")
	b.open("http://" + h.listen + "/settings/workers")
	b.shows("There is no worker yet")
	b.accessible("no workers")
	b.click("Create a worker")
	b.shows("Its machine joins")
	b.field("Name", "gauge-house")
	b.field("Site (optional)", "premises")
	b.accessible("creating a worker")
	b.click("Create the worker")
	b.shows("Run this on its machine")
	shown := js[string](b, `document.querySelector('pre[aria-label=Commands]').textContent`)
	line, _, _ := strings.Cut(shown, "\n")
	w := &workerProcess{t: t, data: filepath.Join(t.TempDir(), "worker")}
	place := t.TempDir()
	w.args = []string{"--folders", place}
	join := w.command(append(strings.Fields(line)[1:], "--data", w.data)...)
	if err := join.Run(); err != nil {
		t.Fatalf("%s: %v\n%s", line, err, w.log)
	}
	b.click("Done")
	w.start()
	b.shows("connected")
	b.accessible("a worker that is connected")
	writeFile(t, "stage 1.2 m", place, "weir.csv")
	b.open("http://" + h.listen + "/accounts/link?provider=folder")
	b.shows("Reached by")
	b.choose("Reached by", "gauge-house")
	b.field("Name in the tree", "gauges")
	b.field("Path", place)
	b.click("Continue")
	b.click("Link it")
	b.shows("Linked as")
	b.open("http://" + h.listen + "/accounts/gauges")
	b.shows("the workers of the site premises")
	b.open("http://" + h.listen + "/files/gauges")
	b.shows("weir.csv")
	h.grantInConsole(b)
	b.open("http://" + h.listen + "/")
	b.shows("Workers")
	b.accessible("an overview with a worker")
	w.end(syscall.SIGTERM)
	b.shows("Worker gauge-house")
}

// grantInConsole grants a worker an account in the console, and has it copy there.
func (h *heron) grantInConsole(b *window) {
	objects := servertest.StartObjectStore(h.t)
	h.linkBucket("archive", objects, objects.Bucket(h.t))
	b.open("http://" + h.listen + "/settings/workers")
	b.shows("The service copies beside its workers")
	b.click("Leave copying to workers")
	b.shows("The service leaves to workers")
	b.click("Change")
	b.click("Grant accounts")
	b.shows("sealed to its key")
	b.accessible("granting accounts to a worker")
	b.click("Grant /archive")
	b.click("Save")
	b.shows("granted")
	h.addUser("field-technician", "operator")
	b.click("Change")
	b.click("Assign managers")
	b.shows("They can rename, drain and resume it")
	b.accessible("assigning managers to a worker")
	b.look("assign")
	b.click("Assign field-technician")
	b.click("Save")
	b.shows("managed by field-technician")
	b.look("workers")
	b.open("http://" + h.listen + "/settings/bandwidth")
	b.click("Limit a site")
	b.click("premises")
	b.shows("Site premises")
	b.focus(`form[aria-label="Bandwidth of Site premises"] input`)
	b.keys("20MB/s")
	b.press(`form[aria-label="Bandwidth of Site premises"] button[type=submit]`)
	b.shows("In force")
	b.accessible("limits of a site")
	b.look("bandwidth-site")
	if out := h.must("bandwidth", "show"); !strings.Contains(out, "premises") {
		h.t.Errorf("the limits: %s", out)
	}
	run := h.copy("/gauges", "/archive")
	b.open("http://" + h.listen + "/runs/" + run.ID)
	b.shows("Copied by")
	b.accessible("a run that a worker copied for")
}

// TestContinuousAtSite copies a folder of a worker's machine continuously: what changes while the worker is
// cut off arrives when it is back.
func TestContinuousAtSite(t *testing.T) {
	t.Parallel()
	h := start(t)
	network := servertest.NewNetwork(t)
	toService := network.Relay(h.listen, h.listen)
	place, target := t.TempDir(), t.TempDir()
	h.worker("gauge-house", "premises", network, "--folders", place)
	h.must("account", "link", "folder", "gauges", "--path", place, "--at", "gauge-house")
	h.linkFolder("archive", target)
	writeFile(t, "first", place, "1.csv")
	h.must("job", "create", "gauges", "--from", "/gauges", "--to", "/archive/gauges", "--continuous")
	arrives := func(name string) {
		t.Helper()
		for deadline := time.Now().Add(longestWait); ; <-time.After(20 * time.Millisecond) {
			if _, err := os.Stat(filepath.Join(target, "gauges", name)); err == nil {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("%s did not arrive\n%s", name, h.log)
			}
		}
	}
	arrives("1.csv")
	writeFile(t, "second", place, "2.csv")
	arrives("2.csv")
	toService.SetDown(true)
	h.workerIs("gauge-house", "offline")
	writeFile(t, "third", place, "3.csv")
	toService.SetDown(false)
	arrives("3.csv")
}

// TestWorkerFullDisk fills the disk of a worker while it copies files to a folder of its machine: the run
// is held, nothing partial is there, and it goes on when there is space.
func TestWorkerFullDisk(t *testing.T) {
	t.Parallel()
	small := t.TempDir()
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=12m"); err != nil {
		t.Skipf("a small disk cannot be mounted here (%v)", err)
	}
	t.Cleanup(func() { syscall.Unmount(small, 0) })
	h := start(t)
	h.worker("gauge-house", "premises", nil, "--folders", small)
	objects := servertest.StartObjectStore(t)
	h.linkBucket("archive", objects, objects.Bucket(t))
	h.must("account", "link", "folder", "gauges", "--at", "gauge-house", "--path", small)
	h.must("worker", "grant", "gauge-house", "archive")
	h.must("worker", "drain", "service")
	films := t.TempDir()
	for i := range 16 {
		writeFile(t, large(512<<10), films, "films", fmt.Sprint(i))
	}
	h.must("put", filepath.Join(films, "films"), "/archive", "--yes")
	h.must("bandwidth", "set", "--site", "premises", "--down", "4MiB/s", "--up", "4MiB/s")
	var started struct{ Run string }
	if err := json.Unmarshal([]byte(h.must("copy", "/archive/films", "/gauges", "--detach", "--json")), &started); err != nil {
		t.Fatal(err)
	}
	filler := filepath.Join(small, "filler")
	for deadline := time.Now().Add(longestWait); ; <-time.After(5 * time.Millisecond) {
		if arrived, _ := filepath.Glob(filepath.Join(small, "films", "[0-9]*")); len(arrived) > 0 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("nothing arrives")
		}
	}
	file, err := os.Create(filler)
	if err != nil {
		t.Fatal(err)
	}
	written, full := io.CopyN(file, zeros{}, 64<<20)
	_ = file.Close()
	t.Logf("%d bytes more fill the disk: %v", written, full)
	run := h.until(started.Run, "held")
	if run.Cause != "no-space" || run.Remedy == "" || run.Items.Done == 16 {
		t.Errorf("%+v", run)
	}
	arrived, _ := filepath.Glob(filepath.Join(small, "films", "[0-9]*"))
	for _, path := range arrived {
		if info, err := os.Stat(path); err != nil || info.Size() != 512<<10 {
			t.Errorf("%s is partial: %v, %v", path, info, err)
		}
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	h.until(started.Run, "done")
	if want, got := digest(t, filepath.Join(films, "films")), digest(t, filepath.Join(small, "films")); !maps.Equal(want, got) {
		t.Errorf("the films differ: %s", firstDifference(want, got))
	}
	leftovers(t, objects, small)
}

// zeros reads as zeros without end.
type zeros struct{}

// Read implements io.Reader.
func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}
