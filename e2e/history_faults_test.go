package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/servertest"
	"deftheron/standin"
)

// unreliable is an account whose server can be told to fail.
type unreliable struct {
	name string
	fail func(on bool)
	// hit says how often it has failed since it was told to.
	hit func() int
}

// linkUnreliable links an account at each kind of server that fails when it is told to.
func linkUnreliable(t *testing.T, h *heron) []unreliable {
	t.Helper()
	var all []unreliable
	web := func(name string) *davServer {
		server := &davServer{random: rand.New(rand.NewPCG(3, 9)), hit: map[string]int{}}
		all = append(all, unreliable{name, func(on bool) {
			percent := 0
			if on {
				percent = 5
			}
			server.set(0, percent, false)
		}, func() (n int) {
			for _, times := range server.hit {
				n += times
			}
			return n
		}})
		return server
	}
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	place, _ := apache.Folder(t)
	path, err := url.Parse(place)
	if err != nil {
		t.Fatal(err)
	}
	h.linkApache("apache", apache, web("apache").front(t, servertest.Forward(t, place)).URL+path.Path)
	objects := servertest.StartObjectStore(t)
	bucket := objects.Bucket(t)
	front := *objects
	front.Endpoint = web("versitygw").front(t, servertest.Forward(t, objects.Endpoint)).URL
	h.linkBucket("versitygw", &front, bucket)
	versioned := servertest.StartVersionedObjectStore(t)
	bucket = versioned.LockedBucket(t)
	front = *versioned
	front.Endpoint = web("versioned").front(t, servertest.Forward(t, versioned.Endpoint)).URL
	h.linkBucket("versioned", &front, bucket)
	if disk, ok := mountSmall(t); ok {
		h.linkFolder("small-disk", disk.folder)
		all = append(all, unreliable{"small-disk", disk.fill, func() int { return int(disk.filled.Load()) }})
	}
	dav := httptest.NewServer(web("x-net").front(t, standin.WebDAV(t.TempDir(), "", "")).Config.Handler)
	t.Cleanup(dav.Close)
	h.must("account", "link", "webdav", "x-net", "--url", dav.URL)

	shell := servertest.StartOpenSSH(t)
	line := servertest.StartLine(t, net.JoinHostPort(shell.Host, shell.Port))
	h.link(shell.Password, "sftp", "openssh", "--host", line.Host, "--port", line.Port, "--user", shell.User, "--path", shell.Folder(t))
	all = append(all, unreliable{"openssh", func(on bool) {
		if line.CutAfter(0); on {
			line.CutAfter(60_000)
		}
	}, line.Cut})

	c := clouds(t)
	h.linkDrives(c)
	for name, control := range map[string]*standin.Control{"field-drive": c.Sedge.Control, "office-drive": c.Alder.Control} {
		all = append(all, unreliable{name, func(on bool) {
			faults := standin.Faults{}
			if on {
				faults.Rates = map[string]float64{"500": 0.02, "503": 0.01, "429": 0.01, "reset": 0.02, "lost": 0.02, "truncated": 0.02,
					"html": 0.01}
			}
			control.SetFaults(faults)
		}, control.Struck})
	}
	return all
}

// smallDisk is a disk that others fill and empty again.
type smallDisk struct {
	top, folder string
	filled      atomic.Int64
	stop        func()
}

// mountSmall mounts one, where tests may.
func mountSmall(t *testing.T) (*smallDisk, bool) {
	t.Helper()
	d := &smallDisk{top: t.TempDir(), stop: func() {}}
	if err := syscall.Mount("tmpfs", d.top, "tmpfs", 0, "size=32m"); err != nil {
		t.Logf("a small disk cannot be mounted here: %v", err)
		return nil, false
	}
	t.Cleanup(func() {
		d.stop()
		syscall.Unmount(d.top, syscall.MNT_DETACH)
	})
	if d.folder = filepath.Join(d.top, "data"); os.Mkdir(d.folder, 0o777) != nil {
		t.Fatal("no folder could be made")
	}
	return d, true
}

// fill has the disk be full, and not, in turns.
func (d *smallDisk) fill(on bool) {
	d.stop()
	d.stop = func() {}
	if !on {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	filler := filepath.Join(d.top, "filler")
	d.stop = func() {
		cancel()
		<-ended
		os.Remove(filler)
	}
	go func() {
		defer close(ended)
		for block := make([]byte, 1<<20); ctx.Err() == nil; time.Sleep(20 * time.Millisecond) {
			file, err := os.Create(filler)
			for ; err == nil; _, err = file.Write(block) {
			}
			d.filled.Add(1)
			time.Sleep(20 * time.Millisecond)
			file.Close()
			os.Remove(filler)
		}
	}()
}

// TestHistoryFaults mirrors with overwrites and deletions, and restores what was before, exactly and
// back again, at servers whose requests fail and whose connections break, and (of all with
// -everywhere) in a sealed place there: every state is there in the end, byte for byte, and a
// rehearsal passes.
func TestHistoryFaults(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	for _, place := range linkUnreliable(t, h) {
		if !*everywhere && (place.name == "field-drive" || place.name == "x-net") {
			continue
		}
		h.linkSealed("sealed-"+place.name, "/"+place.name+"/vault")
		t.Run(place.name, func(t *testing.T) {
			t.Parallel()
			h := h.of(t)
			h.historyWithFaults(t, filepath.Join(desk, place.name), place.name, place)
			if *everywhere || place.name == "versitygw" {
				h.historyWithFaults(t, filepath.Join(desk, "sealed-"+place.name), "sealed-"+place.name, place)
			}
		})
	}
}

func (h *heron) historyWithFaults(t *testing.T, source, name string, place unreliable) {
	for i := range 12 {
		writeFile(t, fmt.Sprint("content ", i), source, "sub", fmt.Sprint(i, ".txt"))
		writeFile(t, repeated(fmt.Sprint("large ", i), 30_000), source, "large", fmt.Sprint(i, ".bin"))
	}
	target, job := "/"+name+"/mirrored", "mirror-"+name
	h.must("job", "create", job, "--type", "mirror", "--from", "/desk/"+name, "--to", target, "--safety-deletions", "none",
		"--safety-overwrites", "none")
	h.settle(t, place, "job", "start", job)
	first := moment()
	before := h.wasAll(target, first)
	for i := range 4 {
		writeFile(t, fmt.Sprint("another ", i), source, "sub", fmt.Sprint(i, ".txt"))
		writeFile(t, repeated(fmt.Sprint("altered ", i), 31_000), source, "large", fmt.Sprint(i, ".bin"))
		if err := os.Remove(filepath.Join(source, "sub", fmt.Sprint(4+i, ".txt"))); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Rename(filepath.Join(source, "large", "9.bin"), filepath.Join(source, "large", "renamed.bin")); err != nil {
		t.Fatal(err)
	}
	h.settle(t, place, "job", "start", job)
	second := moment()
	after := h.wasAll(target, second)
	if len(before) != 24 || len(after) != 20 || after["sub/1.txt"] != "another 1" || after["large/renamed.bin"] != before["large/9.bin"] {
		t.Errorf("%s: there were %d and %d files, want 24 and 20", name, len(before), len(after))
	}
	same(t, name+", as it was at first", h.wasAll(target, first), before)
	h.settle(t, place, "history", "restore", target, "--at", first, "--exact", "--yes")
	same(t, name+", restored", h.wasAll(target, moment()), before)
	h.settle(t, place, "history", "restore", target, "--at", second, "--exact", "--yes")
	same(t, name+", after the restore was taken back", h.wasAll(target, moment()), after)
	if t.Failed() {
		for i := range 12 {
			t.Logf("%s", h.run("", "history", "list", fmt.Sprint(target, "/sub/", i, ".txt"), "--json").out)
		}
		for run, err := range h.client().Runs(t.Context(), client.RunFilter{Account: name}) {
			if err == nil {
				t.Logf("%s: %s", run.ID, h.run("", "run", "items", run.ID).out)
			}
		}
	}
	same(t, name+", as it was at first, after all", h.wasAll(target, first), before)
	var rehearsal contract.Rehearsal
	if r := h.run("", "history", "rehearse", job, "--all", "--at", first, "--json"); r.code != 0 ||
		json.Unmarshal([]byte(r.out), &rehearsal) != nil || rehearsal.State != "passed" || rehearsal.Files != 24 {
		t.Errorf("%s: the rehearsal ended with %d: %s%s", name, r.code, r.out, r.err)
	}
}

// settle does something that makes a run while a server fails, and has the run tried again until it
// is done, at last without failures.
func (h *heron) settle(t *testing.T, place unreliable, command ...string) {
	t.Helper()
	place.fail(true)
	defer place.fail(false)
	begun := time.Now()
	defer func() {
		t.Logf("%s: %v: %d failures, %v", place.name, command, place.hit(), time.Since(begun))
	}()
	args := append(command, "--json")
	for try := range 6 {
		if try == 3 {
			place.fail(false)
		}
		r := h.run("", args...)
		var run contract.Run
		if err := json.Unmarshal([]byte(r.out), &run); err == nil && run.ID != "" {
			if run.State == "done" && run.Items.Failed == 0 {
				return
			}
			args = []string{"run", "retry", run.ID, "--json"}
		}
		t.Logf("%s: %v: exit %d, %s %s %s%s", place.name, command, r.code, run.State, run.Cause, run.Why, r.err)
		if run.State == "held" && run.Cause == "no-space" { // it continues when there is space
			place.fail(false)
			h.until(run.ID, "done")
			return
		}
	}
	t.Fatalf("%s: %v does not come to its end:\n%s", place.name, command, h.run("", "run", "items", args[2], "--state", "failed").out)
}
