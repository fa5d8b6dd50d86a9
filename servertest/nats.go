package servertest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// NATS is one message server with JetStream, or several that are a cluster.
type NATS struct {
	// URL has the addresses of all, with a sign-in.
	URL      string
	commands []func() *exec.Cmd
	running  []*exec.Cmd
	at       []string
}

// StartNATS starts servers. `make tools` builds the program.
func StartNATS(t testing.TB, servers int) *NATS {
	t.Helper()
	return startNATS(t, servers, "1G")
}

// StartFullNATS starts a server whose JetStream has no room.
func StartFullNATS(t testing.TB) *NATS {
	t.Helper()
	return startNATS(t, 1, "1K")
}

func startNATS(t testing.TB, servers int, room string) *NATS {
	t.Helper()
	program := filepath.Join(Root(), ".cache", "bin", "nats-server")
	if _, err := os.Stat(program); err != nil {
		t.Fatalf("the message server for tests is missing (%v); run make tools", err)
	}
	n := &NATS{running: make([]*exec.Cmd, servers)}
	var routes []string
	for range servers {
		n.at = append(n.at, FreeAddress(t))
		routes = append(routes, "nats://"+FreeAddress(t))
	}
	for i, address := range n.at {
		host, port, _ := strings.Cut(address, ":")
		config := filepath.Join(t.TempDir(), "nats.conf")
		text := fmt.Sprintf("jetstream { store_dir: %q, max_file_store: %s, max_memory_store: 64M }\n", t.TempDir(), room)
		if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		args := []string{"-c", config, "-a", host, "-p", port, "-n", fmt.Sprint("n", i), "--user", "heron", "--pass", "secret"}
		if servers > 1 {
			args = append(args, "--cluster_name", "test", "--cluster", routes[i], "--routes", strings.Join(routes, ","))
		}
		n.commands = append(n.commands, func() *exec.Cmd { return exec.Command(program, args...) })
		n.Start(t, i)
	}
	for _, address := range n.at {
		WaitForPort(t, address)
	}
	n.URL = "nats://heron:secret@" + strings.Join(n.at, ",nats://heron:secret@")
	return n
}

// Start starts a server that is not running.
func (n *NATS) Start(t testing.TB, i int) {
	t.Helper()
	n.running[i] = n.commands[i]()
	Start(t, n.running[i])
}

// Kill kills a server.
func (n *NATS) Kill(i int) {
	_ = n.running[i].Process.Kill()
	_ = n.running[i].Wait()
}
