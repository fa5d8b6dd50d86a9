package servertest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"testing"
)

// StartProFTPD starts Debian's ProFTPD with SFTP, which hashes files where it is
// asked to (check-file), and takes a password alone.
func StartProFTPD(t testing.TB) *Shell {
	t.Helper()
	s := &Shell{User: "field", Password: password, root: dataFolder(t)}
	s.Host, s.Port, _ = net.SplitHostPort(FreeAddress(t))
	s.NewHostKey(t)
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	group, err := user.LookupGroupId(who.Gid)
	if err != nil {
		t.Fatal(err)
	}
	s.write(t, "users", fmt.Sprintf("%s:%s:%s:%s::%s:/bin/sh\n", s.User, passwordHash, who.Uid, who.Gid, s.root))
	s.write(t, "proftpd.conf", fmt.Sprintf(`ServerType standalone
ModulePath %[2]s
LoadModule mod_sftp.c
ServerName herons
Port 0
UseIPv6 off
User %[3]s
Group %[4]s
ScoreboardFile none
PidFile %[1]s/pid
SystemLog %[1]s/log
WtmpLog off
DelayEngine off
MaxInstances 100
<VirtualHost %[5]s>
  SFTPEngine on
  Port %[6]s
  SFTPHostKey %[1]s/host_key
  SFTPAuthMethods password
  AuthUserFile %[1]s/users
  AuthOrder mod_auth_file.c
  RequireValidShell off
  RootLogin on
  AllowOverwrite on
</VirtualHost>
`, s.root, filepath.Join(Root(), ".cache", "servers", "usr", "lib", "proftpd"), who.Username, group.Name, s.Host, s.Port))
	s.command = exec.Command(unpacked(t, "usr/sbin/proftpd"), "-n", "-c", filepath.Join(s.root, "proftpd.conf"))
	s.command.Env = os.Environ()
	startGroup(t, s.command, filepath.Join(s.root, "proftpd.log"), net.JoinHostPort(s.Host, s.Port))
	return s
}
