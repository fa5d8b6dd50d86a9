package e2e

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/servertest"
)

// TestRoutesAreIndependent runs a job of three routes, of which one account is suspended
// and one server cannot be reached: the third goes through, the run says what it waits
// for, goes on when the server is back, and then waits for the person.
func TestRoutesAreIndependent(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk, near := t.TempDir(), t.TempDir()
	h.linkFolder("desk", desk)
	h.linkFolder("near", near)
	h.linkFolder("asleep", t.TempDir())
	shell := servertest.StartOpenSSH(t)
	relay := servertest.StartRelay(t, net.JoinHostPort(shell.Host, shell.Port))
	far := shell.Folder(t)
	h.link(shell.Password, "sftp", "far", "--host", relay.Host, "--port", relay.Port, "--user", shell.User, "--path", far)
	for i := range 30 {
		writeFile(t, strings.Repeat("x", i), desk, "in", string(rune('a'+i%26))+strings.Repeat("y", i/26))
	}
	h.must("job", "create", "three", "--type", "copy", "--from", "/desk/in", "--to", "/near/in")
	file := filepath.Join(t.TempDir(), "job.yaml")
	if err := os.WriteFile(file, []byte("job: three\ntype: copy\nroutes:\n  - {from: /desk/in, to: /near/in}\n"+
		"  - {from: /desk/in, to: /far/in}\n  - {from: /desk/in, to: /asleep/in}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.must("job", "load", file)
	started, err := h.client().StartJob(t.Context(), "three")
	if err != nil {
		t.Fatal(err)
	}
	h.until(started.Run, "done")

	// Everything changes, and two of the three are not there.
	for i := range 30 {
		writeFile(t, "changed", desk, "in", "new "+string(rune('a'+i%26))+strings.Repeat("y", i/26))
	}
	h.must("account", "suspend", "asleep")
	relay.SetDown(true)
	if started, err = h.client().StartJob(t.Context(), "three"); err != nil {
		t.Fatal(err)
	}
	deadline := time.Now().Add(30 * time.Second)
	for {
		entries, _ := os.ReadDir(filepath.Join(near, "in"))
		if out := h.must("run", "show", started.Run); len(entries) == 60 && strings.Contains(out, "waiting for") &&
			strings.Contains(out, "/far, since") && strings.Contains(out, "The run continues when") {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d files are near: %s", len(entries), h.must("run", "show", started.Run))
		}
		time.Sleep(100 * time.Millisecond)
	}
	relay.SetDown(false)
	run := h.until(started.Run, "held")
	if run.Cause != "suspended" && run.Cause != "account-suspended" {
		t.Logf("held for %q: %s", run.Cause, run.Why)
	}
	if entries, _ := os.ReadDir(filepath.Join(far, "in")); len(entries) != 60 {
		t.Errorf("%d files are far", len(entries))
	}
	h.must("account", "resume", "asleep")
	if run := h.until(started.Run, "done"); run.Items.Failed != 0 {
		t.Errorf("%+v", run.Items)
	}
}
