package sftp_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/sftp"
	"deftheron/servertest"
	"deftheron/standin"
)

// opened is an account, with the secret and the private key given.
func openErr(ctx context.Context, options map[string]string, credential store.Credential) (store.Store, error) {
	checked, err := store.CheckOptions(sftp.Provider{}, options, true)
	if err != nil {
		return nil, err
	}
	return sftp.Provider{}.Open(ctx, store.Opening{
		Options: checked, Secrets: store.FixedSecret(credential.Bytes()), Gate: gate.New("sftp", 16, 64),
	})
}

func open(t *testing.T, server *servertest.Shell, path string) store.Store {
	t.Helper()
	s, err := openErr(t.Context(), map[string]string{"host": server.Host, "port": server.Port, "user": server.User, "path": path},
		store.Credential{Secret: server.Password})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.(interface{ Close() error }).Close() })
	return s
}

func TestConformsOnOpenSSH(t *testing.T) {
	server := servertest.StartOpenSSH(t)
	storetest.Run(t, func(t *testing.T) store.Store { return open(t, server, server.Folder(t)) })
}

func TestBrokenConnections(t *testing.T) {
	server := servertest.StartOpenSSH(t)
	relay := servertest.StartRelay(t, net.JoinHostPort(server.Host, server.Port))
	through := *server
	through.Host, through.Port = relay.Host, relay.Port
	s := open(t, &through, server.Folder(t))
	storetest.Broken(t, s, relay.BreakAfter)
	relay.SetDown(true)
	if _, err := s.Stat(t.Context(), store.At("x")); store.KindOf(err) != store.ErrTryAgain {
		t.Errorf("of a server that is down: %v", err)
	}
	relay.SetDown(false)
	if _, err := s.Stat(t.Context(), store.At("x")); store.KindOf(err) != store.ErrNotFound {
		t.Errorf("of a server that is up again: %v", err)
	}
}

func TestHostKeyIsPinned(t *testing.T) {
	server := servertest.StartOpenSSH(t)
	path := server.Folder(t)
	options := map[string]string{"host": server.Host, "port": server.Port, "user": server.User, "path": path}
	value, words, err := sftp.Provider{}.ProbeIdentity(t.Context(), store.Opening{Options: options})
	if err != nil || value != server.HostKey || !strings.Contains(words, server.HostKey) {
		t.Errorf("introduced as %q, %q, %v; want %q", value, words, err, server.HostKey)
	}
	pinned := store.PinnedOf(open(t, server, path))["host-key"]
	if pinned != server.HostKey {
		t.Fatalf("pinned %q, want %q", pinned, server.HostKey)
	}
	fingerprint := strings.Fields(pinned)[1]
	for _, given := range []string{pinned, fingerprint, "256 " + fingerprint + " host (ED25519)"} {
		options["host-key"] = given
		if _, err := openErr(t.Context(), options, store.Credential{Secret: server.Password}); err != nil {
			t.Errorf("with --host-key %q: %v", given, err)
		}
	}
	options["host-key"] = "aa:bb:cc"
	var option *store.OptionError
	if _, err := openErr(t.Context(), options, store.Credential{Secret: server.Password}); !errors.As(err, &option) ||
		option.Option != "host-key" {
		t.Errorf("with no host key: %v", err)
	}
	server.Stop()
	server.NewHostKey(t)
	server.Start(t)
	options["host-key"] = pinned
	_, err = openErr(t.Context(), options, store.Credential{Secret: server.Password})
	if store.KindOf(err) != store.ErrSignInExpired || !strings.Contains(err.Error(), server.HostKey) ||
		!strings.Contains(err.Error(), pinned) {
		t.Errorf("with another host key: %v; want it to wait for a person, and name both", err)
	}
}

func TestSignIns(t *testing.T) {
	server := servertest.StartOpenSSH(t)
	options := map[string]string{"host": server.Host, "port": server.Port, "user": server.User, "path": server.Folder(t)}
	key := func(pem, passphrase string) store.Credential {
		return store.Credential{Secret: passphrase, Files: map[string]string{"key-file": pem}}
	}
	_, other, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(other, "")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name       string
		credential store.Credential
		option     string // that is wrong
		kind       error
	}{
		{"the password", store.Credential{Secret: server.Password + "\n"}, "", nil},
		{"a key", key(server.Key, ""), "", nil},
		{"a locked key", key(server.LockedKey, server.Passphrase), "", nil},
		{"another password", store.Credential{Secret: "wrong"}, "", store.ErrSignInExpired},
		{"another key", key(string(pem.EncodeToMemory(block)), ""), "", store.ErrSignInExpired},
		{"a wrong passphrase", key(server.LockedKey, "wrong"), "secret-file", nil},
		{"no passphrase", key(server.LockedKey, ""), "secret-file", nil},
		{"nothing", store.Credential{}, "secret-file", nil},
		{"the public half", key("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAI me", ""), "key-file", nil},
	} {
		s, err := openErr(t.Context(), options, c.credential)
		var option *store.OptionError
		switch {
		case c.option != "":
			if !errors.As(err, &option) || option.Option != c.option {
				t.Errorf("%s: %v, want --%s to be wrong", c.name, err, c.option)
			}
		case store.KindOf(err) != c.kind || c.kind == nil && err != nil:
			t.Errorf("%s: %v, want %v", c.name, err, c.kind)
		}
		if err == nil {
			s.(interface{ Close() error }).Close()
		} else if strings.Contains(err.Error(), server.Passphrase) || strings.Contains(err.Error(), "wrong;") {
			t.Errorf("%s: the error tells the secret: %v", c.name, err)
		}
	}
}

func TestWrongPlaces(t *testing.T) {
	server := servertest.StartOpenSSH(t)
	right := func() map[string]string {
		return map[string]string{"host": server.Host, "port": server.Port, "user": server.User, "path": server.Folder(t)}
	}
	for _, c := range []struct{ option, value, says string }{
		{"path", "/no/such/folder", "there is no folder /no/such/folder"},
		{"path", "/etc/passwd", "is a file"},
		{"port", "ssh", "is not a port"},
		{"host", "user@files.example.org", "is not a host"},
		{"port", "1", "cannot be reached"},
	} {
		options := right()
		options[c.option] = c.value
		if _, err := openErr(t.Context(), options, store.Credential{Secret: server.Password}); err == nil ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("--%s %s: %v; want it to say %q", c.option, c.value, err, c.says)
		}
	}
}

// The stand-in has other habits: it cannot be told to write to its disk, and tells
// no space.
func TestConformsOnTheStandIn(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store {
		server, err := standin.StartSFTP(t.TempDir(), "loggers", "the loggers' own")
		if err != nil {
			t.Fatal(err)
		}
		host, port, _ := net.SplitHostPort(server.Address)
		s, err := openErr(t.Context(), map[string]string{"host": host, "port": port, "user": "loggers", "host-key": server.HostKey},
			store.Credential{Secret: "the loggers' own"})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			s.(interface{ Close() error }).Close()
			if err := server.Close(); err != nil {
				t.Error(err)
			}
		})
		return s
	})
}

// ProFTPD hashes by itself, so that what was written is not read back.
func TestConformsOnProFTPD(t *testing.T) {
	server := servertest.StartProFTPD(t)
	storetest.Run(t, func(t *testing.T) store.Store { return open(t, server, server.Folder(t)) })
	s := open(t, server, server.Folder(t))
	if kind := s.Traits().VerificationKind; kind != store.MD5 {
		t.Fatalf("its verification is %q, want MD5 by check-file", kind)
	}
	written, err := s.Write(t.Context(), store.Writing{Place: store.At("a"), Size: 9, Run: "r", Content: hashed("123456789")})
	if err != nil || written.ReadBack || written.Verification.String() != "md5=25f9e794323b453885f5181f1b624d0b" {
		t.Errorf("written with the verification %s, read back: %v, %v", written.Verification, written.ReadBack, err)
	}
}

// hashed is content that is hashed by MD5 on its way.
type hashed string

func (h hashed) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(io.NopCloser(strings.NewReader(string(h))), store.MD5, nil), nil
}

func TestFullDisk(t *testing.T) {
	server := servertest.StartOpenSSH(t)
	storetest.Full(t, open(t, server, server.Small(t)), servertest.SmallDisk)
}

func TestManyRequestsInFlight(t *testing.T) {
	server := servertest.StartOpenSSH(t)
	checked, err := store.CheckOptions(sftp.Provider{}, map[string]string{"host": server.Host, "port": server.Port, "user": server.User,
		"path": server.Folder(t)}, true)
	if err != nil {
		t.Fatal(err)
	}
	const delay = 20 * time.Millisecond
	s, err := sftp.Provider{}.Open(t.Context(), store.Opening{Options: checked, Secrets: store.FixedSecret(server.Password),
		Gate: gate.New("sftp", 16, 64), Dial: servertest.Distant(delay)})
	if err != nil {
		t.Fatal(err)
	}
	defer store.Close(s)
	storetest.Distant(t, s, delay)
}

func TestNothingConnectsAnewOnceItIsClosed(t *testing.T) {
	server := servertest.StartOpenSSH(t)
	s := open(t, server, server.Folder(t))
	if _, err := s.Stat(t.Context(), store.Ref{}); err != nil {
		t.Fatal(err)
	}
	s.(interface{ Close() error }).Close()
	if _, err := s.Stat(t.Context(), store.Ref{}); store.KindOf(err) != store.ErrTryAgain {
		t.Errorf("once closed: %v", err)
	}
}
