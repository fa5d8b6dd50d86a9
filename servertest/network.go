package servertest

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// Network is a network of its own on this machine (a network namespace), with loopback alone.
// What listens in it is reached by nothing outside it.
type Network struct {
	t    testing.TB
	file *os.File
}

// NewNetwork makes a network. The test is skipped where the system does not allow that.
func NewNetwork(t testing.TB) *Network {
	t.Helper()
	n := &Network{t: t}
	made := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			made <- err
			return
		}
		file, err := os.Open(fmt.Sprintf("/proc/self/task/%d/ns/net", unix.Gettid()))
		if err == nil {
			n.file = file
			err = loopbackUp()
		}
		made <- err
	}()
	if err := <-made; err != nil {
		t.Skipf("a network of its own cannot be made here (%v); run the test as root", err)
	}
	t.Cleanup(func() { n.file.Close() })
	return n
}

// loopbackUp has the loopback address of the thread's network work.
func loopbackUp() error {
	socket, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM, 0)
	if err != nil {
		return err
	}
	defer unix.Close(socket)
	request, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	request.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(socket, unix.SIOCSIFFLAGS, request)
}

// within calls a function on a thread that is in the network.
func (n *Network) within(do func() error) error {
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		if err := unix.Setns(int(n.file.Fd()), unix.CLONE_NEWNET); err != nil {
			done <- err
			return
		}
		done <- do()
	}()
	return <-done
}

// Start starts a command in the network. The thread that started it stays until the test ends.
func (n *Network) Start(command *exec.Cmd) {
	n.t.Helper()
	if err := n.within(command.Start); err != nil {
		n.t.Fatal(err)
	}
}

// Listen listens in the network, at an address of loopback.
func (n *Network) Listen(address string) net.Listener {
	n.t.Helper()
	var listener net.Listener
	err := n.within(func() (err error) {
		listener, err = net.Listen("tcp", address)
		return err
	})
	if err != nil {
		n.t.Fatal(err)
	}
	n.t.Cleanup(func() { listener.Close() })
	return listener
}

// Filter filters the packets of the network by rules of nftables for the output chain, one to a line, in
// place of those before; none without rules.
func (n *Network) Filter(rules ...string) {
	n.t.Helper()
	script := "flush ruleset\n"
	if len(rules) > 0 {
		script += "table inet test {\nchain output {\ntype filter hook output priority 0\n" + strings.Join(rules, "\n") + "\n}\n}\n"
	}
	command := exec.Command("/usr/sbin/nft", "-f", "-")
	command.Stdin = strings.NewReader(script)
	var out bytes.Buffer
	command.Stdout, command.Stderr = &out, &out
	if err := n.within(command.Start); err != nil {
		n.t.Skipf("packets cannot be filtered here: %v", err)
	}
	if err := command.Wait(); err != nil {
		n.t.Fatalf("nft: %v: %s", err, out.String())
	}
}

// Relay has what connects to an address in the network reach a server outside it, and returns the
// relay, which can be broken.
func (n *Network) Relay(address, to string) *Relay {
	n.t.Helper()
	return startRelay(n.t, n.Listen(address), to)
}
