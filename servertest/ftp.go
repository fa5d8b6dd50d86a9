package servertest

import (
	"crypto/sha256"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"testing"
	"time"
)

// FTP is a running FTP server with a user.
type FTP struct {
	Host, Port  string
	User        string
	Password    string
	Certificate string // the SHA-256 of its certificate, where it speaks TLS
	Path        string // where its folders are, as a client names it
	root        string // where that is on the disk
	folders     int
	command     *exec.Cmd
	begin       func() *exec.Cmd
	small       string // where it sees a small disk; empty for none
}

// FTPOptions are what it is started with.
type FTPOptions struct {
	// TLS is "explicit", "implicit", or empty for none.
	TLS string
	// Connections that it allows at once from one address; 0 is many.
	Connections int
}

// StartVsftpd starts Debian's vsftpd, which has no MLSD, and with TLS wants each
// data connection to reuse a session.
func StartVsftpd(t testing.TB, options FTPOptions) *FTP {
	t.Helper()
	f := newFTP(t, "anonymous")
	f.write(t, "passwords", f.Password+"\n")
	settings := fmt.Sprintf(`listen=YES
listen_address=%s
listen_port=%s
background=NO
anonymous_enable=YES
secure_email_list_enable=YES
email_password_file=%s/passwords
anon_root=%s
anon_upload_enable=YES
anon_mkdir_write_enable=YES
anon_other_write_enable=YES
anon_world_readable_only=NO
anon_umask=022
write_enable=YES
secure_chroot_dir=%s/empty
seccomp_sandbox=NO
isolate=NO
xferlog_enable=NO
max_per_ip=%d
`, f.Host, f.Port, f.root, filepath.Join(f.root, "data"), f.root, options.Connections)
	if os.Getuid() == 0 {
		nobody := nobodys(t) // under another name, since its home has to be there
		f.write(t, "users", fmt.Sprintf("field:x:%s:%s::%s:/bin/false\n", nobody.Uid, nobody.Gid, filepath.Join(f.root, "data")))
		f.write(t, "groups", fmt.Sprintf("field:x:%s:\n", nobody.Gid))
		settings += "ftp_username=field\nnopriv_user=field\n"
	} else {
		settings += "run_as_launching_user=YES\n"
	}
	if options.TLS != "" {
		f.certify(t)
		settings += fmt.Sprintf("ssl_enable=YES\nallow_anon_ssl=YES\nforce_anon_data_ssl=YES\nforce_anon_logins_ssl=YES\n"+
			"require_ssl_reuse=YES\nrsa_cert_file=%[1]s/certificate.pem\nrsa_private_key_file=%[1]s/key.pem\nssl_ciphers=HIGH\n", f.root)
		if options.TLS == "implicit" {
			settings += "implicit_ssl=YES\n"
		}
	}
	f.write(t, "vsftpd.conf", settings)
	f.begin = func() *exec.Cmd {
		command := exec.Command(unpacked(t, "usr/sbin/vsftpd"), filepath.Join(f.root, "vsftpd.conf"))
		if os.Getuid() == 0 {
			command.Env = append(os.Environ(), "LD_PRELOAD=libnss_wrapper.so", "NSS_WRAPPER_PASSWD="+filepath.Join(f.root, "users"),
				"NSS_WRAPPER_GROUP="+filepath.Join(f.root, "groups"))
		}
		return command
	}
	f.Path = "/places"
	f.Start(t)
	return f
}

// StartPureFTPd starts Debian's Pure-FTPd, which has MLSD. It wants to be started
// by root.
func StartPureFTPd(t testing.TB, options FTPOptions) *FTP {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("Pure-FTPd is started by root alone")
	}
	f := newFTP(t, "field")
	nobody := nobodys(t)
	f.write(t, "passwd", fmt.Sprintf("%s:%s:%s:%s::%s/./::::::::::::\n", f.User, passwordHash, nobody.Uid, nobody.Gid,
		filepath.Join(f.root, "data")))
	make := exec.Command(unpacked(t, "usr/bin/pure-pw"), "mkdb", filepath.Join(f.root, "users.pdb"), "-f", filepath.Join(f.root, "passwd"))
	if said, err := make.CombinedOutput(); err != nil {
		t.Fatalf("pure-pw: %v: %s", err, said)
	}
	connections := options.Connections
	if connections == 0 {
		connections = 100
	}
	arguments := []string{"-S", f.Host + "," + f.Port, "-l", "puredb:" + filepath.Join(f.root, "users.pdb"), "-E", "-A", "-H", "-u", "1", "-c",
		"200", "-C", strconv.Itoa(connections), "-k", "99", "-g", filepath.Join(f.root, "pid")}
	if options.TLS != "" {
		f.certify(t)
		arguments = append(arguments, "-Y", "3", "-2", filepath.Join(f.root, "certificate.pem")+","+filepath.Join(f.root, "key.pem"))
	}
	f.begin = func() *exec.Cmd { return exec.Command(unpacked(t, "usr/sbin/pure-ftpd"), arguments...) }
	f.Path = "/places"
	f.Start(t)
	return f
}

func newFTP(t testing.TB, user string) *FTP {
	t.Helper()
	f := &FTP{User: user, Password: password, root: dataFolder(t)}
	f.Host, f.Port, _ = net.SplitHostPort(FreeAddress(t))
	for _, folder := range []string{"", "empty", "data", "data/places"} {
		if err := os.MkdirAll(filepath.Join(f.root, folder), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(filepath.Join(f.root, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return f
}

// Start starts it, again after Stop.
func (f *FTP) Start(t testing.TB) {
	t.Helper()
	f.command = f.begin()
	if f.small != "" {
		nobody := nobodys(t)
		f.command = onSmallDisk(t, f.command, f.small, ",mode=755,uid="+nobody.Uid+",gid="+nobody.Gid)
	}
	startGroup(t, f.command, filepath.Join(f.root, "log"), net.JoinHostPort(f.Host, f.Port))
}

// Small starts it again with a small disk, and returns where that is on the server.
func (f *FTP) Small(t testing.TB) (path string) {
	t.Helper()
	f.Stop()
	path, f.small = f.Folder(t)
	f.Start(t)
	return path
}

// Stop ends it and all of its connections.
func (f *FTP) Stop() { endGroup(f.command) }

// Folder makes a folder of its own and returns its path on the server, and where
// that is on the disk.
func (f *FTP) Folder(t testing.TB) (path, local string) {
	t.Helper()
	f.folders++
	name := "place-" + strconv.Itoa(f.folders)
	local = filepath.Join(f.root, "data", "places", name)
	if err := os.Mkdir(local, 0o755); err != nil {
		t.Fatal(err)
	}
	if os.Getuid() == 0 {
		nobody := nobodys(t)
		uid, _ := strconv.Atoi(nobody.Uid)
		gid, _ := strconv.Atoi(nobody.Gid)
		if err := os.Chown(local, uid, gid); err != nil {
			t.Fatal(err)
		}
	}
	return f.Path + "/" + name, local
}

func nobodys(t testing.TB) *user.User {
	t.Helper()
	nobody, err := user.Lookup("nobody")
	if err != nil {
		t.Fatal(err)
	}
	return nobody
}

func (f *FTP) certify(t testing.TB) {
	t.Helper()
	certificate, key, der := selfSigned(t, time.Now().Add(24*time.Hour))
	f.write(t, "certificate.pem", certificate)
	f.write(t, "key.pem", key)
	f.Certificate = fmt.Sprintf("%X", sha256.Sum256(der))
}

func (f *FTP) write(t testing.TB, name, content string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(f.root, name), []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
}
