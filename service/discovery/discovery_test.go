package discovery_test

import (
	"context"
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"syscall"
	"testing"
	"time"

	"github.com/hashicorp/mdns"

	"deftheron/service/discovery"
)

// inside is set in the process that has a network of its own.
const inside = "HERON_NEARBY_INSIDE"

// TestFind finds servers that announce themselves in a network namespace of the
// test's own, in which there is a loopback alone.
func TestFind(t *testing.T) {
	if os.Getenv(inside) != "" {
		findInside(t)
		return
	}
	command := exec.Command(os.Args[0], "-test.run=^TestFind$", "-test.v")
	command.Env = append(os.Environ(), inside+"=1")
	command.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET}
	if os.Getuid() != 0 {
		command.SysProcAttr.Cloneflags |= syscall.CLONE_NEWUSER
		command.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}}
		command.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}
	}
	if out, err := command.CombinedOutput(); err != nil {
		t.Fatalf("inside: %v\n%s", err, out)
	}
}

func findInside(t *testing.T) {
	bringUp(t)
	loopback, err := net.InterfaceByName("lo")
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range []struct {
		name, service string
		port          int
		text          []string
	}{
		{"Gauge house", "_webdav._tcp", 8080, []string{"path=/loggers/", "u=gauge"}},
		{"Gauge house", "_webdavs._tcp", 8443, nil},
		{"Store.room (2)", "_sftp-ssh._tcp", 22, []string{"u=field", "path=/srv/surveys"}},
		{"Old printer", "_ftp._tcp", 21, nil},
		{"Office", "_smb._tcp", 445, nil},
		{"Office", "_ipp._tcp", 631, nil}, // nothing that files are kept on
	} {
		zone, err := mdns.NewMDNSService(one.name, one.service, "local.", "gauges.local.", one.port, []net.IP{net.IPv4(127, 0, 0, 1)}, one.text)
		if err != nil {
			t.Fatal(err)
		}
		server, err := mdns.NewServer(&mdns.Config{Zone: zone, Iface: loopback})
		if err != nil {
			t.Fatal(err)
		}
		defer server.Shutdown()
	}
	begun := time.Now()
	found, err := discovery.Find(context.Background(), time.Second)
	if err != nil {
		t.Fatal(err)
	}
	if took := time.Since(begun); took > 3*time.Second {
		t.Errorf("it took %v, and was to look for one second", took)
	}
	var got []string
	for _, server := range found {
		options, _ := json.Marshal(server.Options)
		got = append(got, server.Name+"|"+server.Provider+"|"+string(options))
	}
	want := []string{
		`Gauge house|webdav|{"url":"http://127.0.0.1:8080/loggers/"}`,
		`Gauge house|webdav|{"url":"https://127.0.0.1:8443/"}`,
		`Office|smb|{"host":"127.0.0.1","port":"445"}`,
		`Old printer|ftp|{"host":"127.0.0.1","port":"21"}`,
		`Store.room (2)|sftp|{"host":"127.0.0.1","path":"/srv/surveys","port":"22","user":"field"}`,
	}
	gotText, _ := json.MarshalIndent(got, "", " ")
	wantText, _ := json.MarshalIndent(want, "", " ")
	if string(gotText) != string(wantText) {
		t.Errorf("found\n%s\nwant\n%s", gotText, wantText)
	}
}

// bringUp switches the loopback on, and has multicast go over it.
func bringUp(t *testing.T) {
	t.Helper()
	for _, arguments := range [][]string{{"link", "set", "lo", "up", "multicast", "on"}, {"route", "add", "224.0.0.0/4", "dev", "lo"}} {
		if out, err := exec.Command("ip", arguments...).CombinedOutput(); err != nil {
			t.Fatalf("ip %v: %v: %s", arguments, err, out)
		}
	}
}

func TestFindWithNobodyThere(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if found, _ := discovery.Find(ctx, 100*time.Millisecond); len(found) > 0 {
		t.Logf("somebody announces itself on this machine's network: %v", found)
	}
}
