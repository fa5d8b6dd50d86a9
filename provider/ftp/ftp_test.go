package ftp_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/ftp"
	"deftheron/servertest"
)

func openErr(ctx context.Context, options map[string]string, password string) (store.Store, error) {
	checked, err := store.CheckOptions(ftp.Provider{}, options, password != "")
	if err != nil {
		return nil, err
	}
	return ftp.Provider{}.Open(ctx, store.Opening{Options: checked, Secrets: store.FixedSecret(password), Gate: gate.New("ftp", 16, 64)})
}

func optionsOf(server *servertest.FTP, path, mode string) map[string]string {
	options := map[string]string{"host": server.Host, "port": server.Port, "user": server.User, "path": path, "tls": mode}
	if mode != "none" {
		options["certificate"] = server.Certificate
	}
	return options
}

func open(t *testing.T, server *servertest.FTP, path, mode string, more map[string]string) store.Store {
	t.Helper()
	options := optionsOf(server, path, mode)
	maps.Copy(options, more)
	s, err := openErr(t.Context(), options, server.Password)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.(interface{ Close() error }).Close() })
	return s
}

func TestStaleProbes(t *testing.T) {
	server := servertest.StartVsftpd(t, servertest.FTPOptions{})
	path, folder := server.Folder(t)
	storetest.StaleProbes(t, open(t, server, path, "none", nil), folder, func(path string) {
		if err := os.Mkdir(path, 0o777); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(path, "one"), nil, 0o666); err != nil {
			t.Fatal(err)
		}
		for _, own := range []string{folder, filepath.Dir(path), path, filepath.Join(path, "one")} {
			if err := os.Chmod(own, 0o777); err != nil {
				t.Fatal(err)
			}
		}
	})
}

// servers are two that differ in what they offer, plain and encrypted.
var servers = []struct {
	name, mode string
	start      func(testing.TB, servertest.FTPOptions) *servertest.FTP
}{
	{"vsftpd", "none", servertest.StartVsftpd},
	{"vsftpd over TLS", "explicit", servertest.StartVsftpd},
	{"vsftpd over TLS from the start", "implicit", servertest.StartVsftpd},
	{"Pure-FTPd", "none", servertest.StartPureFTPd},
	{"Pure-FTPd over TLS", "explicit", servertest.StartPureFTPd},
}

func start(t *testing.T, i int, options servertest.FTPOptions) *servertest.FTP {
	t.Helper()
	if servers[i].mode != "none" {
		options.TLS = servers[i].mode
	}
	return servers[i].start(t, options)
}

func TestConforms(t *testing.T) {
	for i, c := range servers {
		t.Run(c.name, func(t *testing.T) {
			server := start(t, i, servertest.FTPOptions{})
			storetest.Run(t, func(t *testing.T) store.Store {
				path, _ := server.Folder(t)
				return open(t, server, path, c.mode, nil)
			})
		})
	}
}

func TestBrokenConnections(t *testing.T) {
	for i, c := range servers {
		t.Run(c.name, func(t *testing.T) {
			server := start(t, i, servertest.FTPOptions{})
			path, _ := server.Folder(t)
			breaker := servertest.NewBreaker()
			checked, err := store.CheckOptions(ftp.Provider{}, optionsOf(server, path, c.mode), true)
			if err != nil {
				t.Fatal(err)
			}
			s, err := ftp.Provider{}.Open(t.Context(), store.Opening{
				Options: checked, Secrets: store.FixedSecret(server.Password), Gate: gate.New("ftp", 16, 64), Dial: breaker.Dial,
			})
			if err != nil {
				t.Fatal(err)
			}
			if err := store.Prepare(t.Context(), s); err != nil {
				t.Fatal(err)
			}
			storetest.Broken(t, s, breaker.BreakAfter)
		})
	}
}

// TestFewConnections copies within an account at a server that allows fewer
// connections than are asked for: one, and two.
func TestFewConnections(t *testing.T) {
	for _, allowed := range []int{1, 2} {
		for i, c := range servers {
			if c.mode != "none" {
				continue
			}
			t.Run(fmt.Sprint(c.name, " with ", allowed), func(t *testing.T) {
				server := start(t, i, servertest.FTPOptions{Connections: allowed})
				path, _ := server.Folder(t)
				s := open(t, server, path, c.mode, map[string]string{"connections": fmt.Sprint(max(allowed, 2))})
				content := strings.Repeat("0123456789", 30_000)
				entry, err := s.Write(t.Context(), store.Writing{Place: store.At("from"), Size: int64(len(content)), Run: "few",
					Content: storetest.Text(content)})
				if err != nil {
					t.Fatal(err)
				}
				copied, err := retry.Read(t.Context(), func() (store.Written, error) {
					return s.Write(t.Context(), store.Writing{Place: store.At("to"), Size: int64(len(content)), Run: "few",
						Content: within{s, store.Reading{Place: store.At("from"), Revision: entry.Revision}}})
				})
				if err != nil || copied.Size != int64(len(content)) {
					t.Errorf("copied %d bytes, %v", copied.Size, err)
				}
			})
		}
	}
}

// within is content that is read from an account.
type within struct {
	store   store.Store
	reading store.Reading
}

func (w within) Open(ctx context.Context) (*store.Stream, error) {
	body, err := w.store.Open(ctx, w.reading)
	if err != nil {
		return nil, err
	}
	return store.NewStream(body, store.CRC64NVME, nil), nil
}

func TestSignIns(t *testing.T) {
	plain := servertest.StartVsftpd(t, servertest.FTPOptions{})
	secure := servertest.StartPureFTPd(t, servertest.FTPOptions{TLS: "explicit"})
	implicit := servertest.StartVsftpd(t, servertest.FTPOptions{TLS: "implicit"})
	strict := servertest.StartVsftpd(t, servertest.FTPOptions{TLS: "explicit"})
	for _, c := range []struct {
		name     string
		server   *servertest.FTP
		options  map[string]string
		password string
		kind     error
		says     string
	}{
		{"another password", plain, map[string]string{"tls": "none"}, "wrong", store.ErrSignInExpired, "does not accept the user"},
		{"another password over TLS", secure, nil, "wrong", store.ErrSignInExpired, "does not accept the user"},
		{"no TLS where it is asked for", plain, map[string]string{"tls": "explicit", "certificate": ""}, plain.Password, store.ErrRefused,
			"offers no TLS"},
		{"TLS where none is asked for", secure, map[string]string{"tls": "none", "certificate": ""}, secure.Password, store.ErrRefused,
			"wants TLS"},
		{"TLS where none is asked for", strict, map[string]string{"tls": "none", "certificate": ""}, strict.Password, store.ErrRefused,
			"wants TLS"},
		{"a certificate that nobody vouches for", secure, map[string]string{"certificate": ""}, secure.Password, store.ErrRefused,
			"accept the certificate"},
		{"another certificate", secure, map[string]string{"certificate": strict.Certificate}, secure.Password, store.ErrRefused,
			"another certificate"},
		{"implicit at a port of explicit", secure, map[string]string{"tls": "implicit"}, secure.Password, store.ErrTryAgain, "explicit TLS"},
		{"a folder that is missing", plain, map[string]string{"tls": "none", "path": "/places/none"}, plain.Password, store.ErrNotFound,
			"give another path"},
		{"a port that nothing listens on", plain, map[string]string{"tls": "none", "port": "1"}, plain.Password, store.ErrTryAgain,
			"cannot be reached"},
	} {
		path, _ := c.server.Folder(t)
		options := optionsOf(c.server, path, "explicit")
		maps.Copy(options, c.options)
		s, err := openErr(t.Context(), options, c.password)
		if store.KindOf(err) != c.kind || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v; want %q that says %q", c.name, err, c.kind, c.says)
		}
		if err == nil {
			s.(interface{ Close() error }).Close()
		}
	}
	path, _ := implicit.Folder(t)
	open(t, implicit, path, "implicit", nil)
	for option, value := range map[string]string{"connections": "0", "port": "ftp", "host": "ftp://files.example.org"} {
		options := optionsOf(plain, path, "none")
		options[option] = value
		var wrong *store.OptionError
		if _, err := openErr(t.Context(), options, plain.Password); !errors.As(err, &wrong) || wrong.Option != option {
			t.Errorf("--%s %s: %v", option, value, err)
		}
	}
}

// TestTimesAreExact holds the times of listings that tell minutes to the second.
func TestTimesAreExact(t *testing.T) {
	for i, c := range servers[:4] {
		server := start(t, i, servertest.FTPOptions{})
		path, local := server.Folder(t)
		when := time.Date(2020, 2, 29, 23, 59, 58, 0, time.UTC)
		names := []string{"old.csv", "odd  name; x.csv"}
		for n := range 100 { // more than one connection asks for
			names = append(names, fmt.Sprint("log ", n))
		}
		for _, name := range names {
			if err := os.WriteFile(filepath.Join(local, name), []byte("x"), 0o644); err != nil {
				t.Fatal(err)
			}
			if err := os.Chtimes(filepath.Join(local, name), when, when); err != nil {
				t.Fatal(err)
			}
		}
		seen := 0
		for entry, err := range open(t, server, path, c.mode, nil).List(t.Context(), store.Folder{}) {
			if err != nil || !entry.Modified.Equal(when) {
				t.Errorf("%s: %q of %v, %v; want %v", c.name, entry.Name, entry.Modified, err, when)
			}
			seen++
		}
		if seen != len(names) {
			t.Errorf("%s: %d entries", c.name, seen)
		}
	}
}

func TestFullDisk(t *testing.T) {
	for i, c := range servers {
		t.Run(c.name, func(t *testing.T) {
			server := start(t, i, servertest.FTPOptions{})
			storetest.Full(t, open(t, server, server.Small(t), c.mode, nil), servertest.SmallDisk)
		})
	}
}
