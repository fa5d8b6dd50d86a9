package servertest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// Samba is a running SMB server with a user and two shares.
type Samba struct {
	Host, Port string
	User       string
	Password   string
	Share      string // that holds the folders
	Other      string // another
	root       string
	folders    int
	command    *exec.Cmd
	small      string // where it sees a small disk; empty for none
}

// SambaOptions are what it is started with.
type SambaOptions struct {
	// Encryption is what the server says to it: "off", "required", or empty
	// for leaving it to the client.
	Encryption string
}

// StartSamba starts Debian's Samba, as a server of its own.
func StartSamba(t testing.TB, options SambaOptions) *Samba {
	t.Helper()
	s := &Samba{Password: password, Share: "Surveys", Other: "Permits", root: dataFolder(t)}
	s.Host, s.Port, _ = net.SplitHostPort(FreeAddress(t))
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	s.User = who.Username
	for _, folder := range []string{"share", "other", "private", "lock", "state", "cache", "run", "ncalrpc"} {
		if err := os.Mkdir(filepath.Join(s.root, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	encryption := "desired"
	if options.Encryption != "" {
		encryption = options.Encryption
	}
	err = os.WriteFile(filepath.Join(s.root, "smb.conf"), []byte(fmt.Sprintf(`[global]
workgroup = HERONS
server role = standalone server
interfaces = lo
bind interfaces only = no
smb ports = %[2]s
disable netbios = yes
private dir = %[1]s/private
lock directory = %[1]s/lock
state directory = %[1]s/state
cache directory = %[1]s/cache
pid directory = %[1]s/run
ncalrpc dir = %[1]s/ncalrpc
log file = %[1]s/log
passdb backend = tdbsam:%[1]s/private/passdb.tdb
map to guest = never
load printers = no
printing = bsd
printcap name = /dev/null
disable spoolss = yes
server min protocol = SMB2
server smb encrypt = %[3]s
ea support = no
store dos attributes = no

[Surveys]
path = %[1]s/share
comment = Field surveys
read only = no

[Permits]
path = %[1]s/other
read only = no
`, s.root, s.Port, encryption)), 0o644)
	if err != nil {
		t.Fatal(err)
	}
	add := exec.Command(unpacked(t, "usr/bin/smbpasswd"), "-c", filepath.Join(s.root, "smb.conf"), "-L", "-a", "-s", s.User)
	add.Env = s.environment()
	add.Stdin = strings.NewReader(s.Password + "\n" + s.Password + "\n")
	if said, err := add.CombinedOutput(); err != nil {
		t.Fatalf("smbpasswd: %v: %s", err, said)
	}
	s.Start(t)
	return s
}

func (s *Samba) environment() []string {
	libraries := filepath.Join(Root(), ".cache", "servers", "usr", "lib", "x86_64-linux-gnu")
	return append(os.Environ(), "LD_LIBRARY_PATH="+libraries+":"+filepath.Join(libraries, "samba"))
}

// Start starts it, again after Stop.
func (s *Samba) Start(t testing.TB) {
	t.Helper()
	arguments := []string{unpacked(t, "usr/sbin/smbd"), "--foreground", "--no-process-group", "--debug-stdout", "--debuglevel=0",
		"--configfile=" + filepath.Join(s.root, "smb.conf")}
	if os.Getuid() == 0 {
		// What lists its shares is a program of its own, which it looks for where
		// it would be installed: in a mount namespace of its own it is there. It goes
		// on when the server ends, and so has a namespace for its processes, too.
		arguments = append([]string{"unshare", "--mount", "--pid", "--fork", "--kill-child", "sh", "-c",
			`mount -t tmpfs none /usr/libexec && ln -s "$0" /usr/libexec/samba && exec "$@"`,
			filepath.Join(Root(), ".cache", "servers", "usr", "libexec", "samba")}, arguments...)
	}
	s.command = exec.Command(arguments[0], arguments[1:]...)
	s.command.Env = s.environment()
	if s.small != "" {
		s.command = onSmallDisk(t, s.command, s.small, "")
	}
	startGroup(t, s.command, filepath.Join(s.root, "smbd.log"), net.JoinHostPort(s.Host, s.Port))
}

// Small starts it again with a small disk, and returns its path in the share.
func (s *Samba) Small(t testing.TB) (path string) {
	t.Helper()
	s.Stop()
	path, s.small = s.Folder(t)
	s.Start(t)
	return path
}

// Stop ends it and all of its connections.
func (s *Samba) Stop() { endGroup(s.command) }

// Folder makes a folder of its own in the share and returns its path there, and
// where that is on the disk.
func (s *Samba) Folder(t testing.TB) (path, local string) {
	t.Helper()
	s.folders++
	path = "place-" + strconv.Itoa(s.folders)
	local = filepath.Join(s.root, "share", path)
	if err := os.Mkdir(local, 0o755); err != nil {
		t.Fatal(err)
	}
	return path, local
}
