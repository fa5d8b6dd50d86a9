package servertest

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// Shell is a running SSH server with a user.
type Shell struct {
	Host, Port string
	User       string
	Password   string
	Key        string // a private key in PEM that it accepts
	LockedKey  string // the same, locked with Passphrase
	Passphrase string
	HostKey    string // its type and SHA-256, as it is pinned
	root       string
	folders    int
	command    *exec.Cmd
	small      string // where it sees a small disk; empty for none
}

// passwordHash is that of the password which all of these servers take.
const (
	password     = "not much of a: password"
	passwordHash = "$6$heronheron$.sIE2Y5PP3RzlIecVqgxd7qH8.1jDbvu3jikS4QoRwyrz705ZP2tfNBepGhkhNpvg9dxKdeR//mTcMcyPcRAV0"
)

// StartOpenSSH starts Debian's OpenSSH server, with SFTP alone.
func StartOpenSSH(t testing.TB) *Shell {
	t.Helper()
	s := &Shell{User: "field", Password: password, Passphrase: "herons stand still", root: dataFolder(t)}
	s.Host, s.Port, _ = net.SplitHostPort(FreeAddress(t))
	s.makeKeys(t)
	if os.Getuid() == 0 { // where it keeps its unprivileged half
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			t.Fatal(err)
		}
	}
	s.write(t, "passwd", fmt.Sprintf("%s:x:%d:%d::%s:/bin/sh\nsshd:x:65533:65534::/run/sshd:/bin/false\n", s.User, os.Getuid(), os.Getgid(),
		s.root))
	s.write(t, "shadow", fmt.Sprintf("%s:%s:20000:0:99999:7:::\n", s.User, passwordHash))
	s.write(t, "group", fmt.Sprintf("field:x:%d:\n", os.Getgid()))
	s.write(t, "sshd.conf", fmt.Sprintf(`ListenAddress %[2]s
Port %[3]s
HostKey %[1]s/host_key
PidFile none
AuthorizedKeysFile %[1]s/authorized_keys
StrictModes no
UsePAM no
PermitRootLogin yes
PasswordAuthentication yes
KbdInteractiveAuthentication no
MaxStartups 100
MaxSessions 100
Subsystem sftp %[4]s
`, s.root, s.Host, s.Port, unpacked(t, "usr/lib/openssh/sftp-server")))
	s.Start(t)
	return s
}

// Start starts it, again after Stop.
func (s *Shell) Start(t testing.TB) {
	t.Helper()
	s.command = exec.Command(unpacked(t, "usr/sbin/sshd"), "-D", "-e", "-f", filepath.Join(s.root, "sshd.conf"))
	s.command.Env = append(os.Environ(), "LD_PRELOAD=libnss_wrapper.so", "NSS_WRAPPER_PASSWD="+filepath.Join(s.root, "passwd"),
		"NSS_WRAPPER_SHADOW="+filepath.Join(s.root, "shadow"), "NSS_WRAPPER_GROUP="+filepath.Join(s.root, "group"))
	if s.small != "" {
		s.command = onSmallDisk(t, s.command, s.small, "")
	}
	startGroup(t, s.command, filepath.Join(s.root, "sshd.log"), net.JoinHostPort(s.Host, s.Port))
}

// Small starts it again with a small disk, and returns where that is.
func (s *Shell) Small(t testing.TB) string {
	t.Helper()
	s.Stop()
	s.small = s.Folder(t)
	s.Start(t)
	return s.small
}

// Stop ends it and all of its connections.
func (s *Shell) Stop() { endGroup(s.command) }

// NewHostKey gives it another host key, with the next Start.
func (s *Shell) NewHostKey(t testing.TB) {
	t.Helper()
	signer, private := newKey(t, "")
	s.write(t, "host_key", private)
	s.HostKey = signer.PublicKey().Type() + " " + ssh.FingerprintSHA256(signer.PublicKey())
}

func (s *Shell) makeKeys(t testing.TB) {
	s.NewHostKey(t)
	public, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	plain, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	locked, err := ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte(s.Passphrase))
	if err != nil {
		t.Fatal(err)
	}
	s.Key, s.LockedKey = string(pem.EncodeToMemory(plain)), string(pem.EncodeToMemory(locked))
	authorized, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	s.write(t, "authorized_keys", string(ssh.MarshalAuthorizedKey(authorized)))
}

func newKey(t testing.TB, comment string) (ssh.Signer, string) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, comment)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return signer, string(pem.EncodeToMemory(block))
}

// Folder makes a folder of its own and returns its path, which is the same on the
// server and on the disk.
func (s *Shell) Folder(t testing.TB) string {
	t.Helper()
	s.folders++
	path := filepath.Join(s.root, "place-"+strconv.Itoa(s.folders))
	if err := os.Mkdir(path, 0o755); err != nil {
		t.Fatal(err)
	}
	return path
}

func (s *Shell) write(t testing.TB, name, content string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(s.root, name), []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
}

// unpacked is a program of the file servers that `make prerequisites` unpacks.
func unpacked(t testing.TB, path string) string {
	t.Helper()
	found := filepath.Join(Root(), ".cache", "servers", path)
	if _, err := os.Stat(found); err != nil {
		t.Fatalf("the server %s for tests is missing (%v); unpack it with: make prerequisites", filepath.Base(path), err)
	}
	return found
}

// onSmallDisk has a program see a disk of a few MiB at a path, in a mount namespace
// of its own, which root alone can make.
func onSmallDisk(t testing.TB, command *exec.Cmd, path, options string) *exec.Cmd {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("a small disk is mounted by root alone")
	}
	script := fmt.Sprintf(`mount -t tmpfs -o size=%dm%s none "$0" && exec "$@"`, SmallDisk>>20, options)
	small := exec.Command("unshare", append([]string{"--mount", "sh", "-c", script, path}, command.Args...)...)
	small.Env = command.Env
	return small
}

// SmallDisk is the size of a small disk in bytes.
const SmallDisk = 4 << 20

// startGroup starts a server with a process group of its own, and waits until it
// answers. It ends with the test.
func startGroup(t testing.TB, command *exec.Cmd, log, address string) {
	t.Helper()
	file, err := os.OpenFile(log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	// What an ended server had started dies a moment later, and may hold its address
	// until then.
	until := time.Now().Add(30 * time.Second)
	for {
		listener, err := net.Listen("tcp", address)
		if err == nil {
			listener.Close()
			break
		}
		if time.Now().After(until) {
			t.Fatal(err)
		}
		<-time.After(5 * time.Millisecond)
	}
	command.Stdout, command.Stderr = file, file
	command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { endGroup(command) })
	for {
		connection, err := net.Dial("tcp", address)
		if err == nil {
			connection.Close()
			return
		}
		if time.Now().After(until) {
			said, _ := os.ReadFile(log)
			t.Fatalf("%s does not answer at %s: %s", filepath.Base(command.Path), address, strings.TrimSpace(string(said)))
		}
		<-time.After(10 * time.Millisecond)
	}
}

// endGroup ends a server and whatever it started: its own process group.
func endGroup(command *exec.Cmd) {
	if command.ProcessState != nil {
		return
	}
	_ = syscall.Kill(-command.Process.Pid, syscall.SIGKILL)
	_ = command.Wait()
}
