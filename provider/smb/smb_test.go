package smb_test

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

	"golang.org/x/sync/errgroup"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/smb"
	"deftheron/servertest"
)

func openErr(ctx context.Context, options map[string]string, password string) (store.Store, error) {
	checked, err := store.CheckOptions(smb.Provider{}, options, password != "")
	if err != nil {
		return nil, err
	}
	return smb.Provider{}.Open(ctx, opening(checked, password))
}

func opening(options map[string]string, password string) store.Opening {
	return store.Opening{Options: options, Secrets: store.FixedSecret(password), Gate: gate.New("smb", 16, 64)}
}

func optionsOf(server *servertest.Samba, path string) map[string]string {
	return map[string]string{"host": server.Host, "port": server.Port, "user": server.User, "share": server.Share, "path": path}
}

func open(t *testing.T, server *servertest.Samba, path string) store.Store {
	t.Helper()
	s, err := openErr(t.Context(), optionsOf(server, path), server.Password)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.(interface{ Close() error }).Close() })
	return s
}

func TestConformsOnSamba(t *testing.T) {
	for _, encryption := range []string{"off", "required"} {
		t.Run("encryption "+encryption, func(t *testing.T) {
			server := servertest.StartSamba(t, servertest.SambaOptions{Encryption: encryption})
			storetest.Run(t, func(t *testing.T) store.Store {
				path, _ := server.Folder(t)
				return open(t, server, path)
			})
		})
	}
}

func TestBrokenConnections(t *testing.T) {
	for _, encryption := range []string{"off", "required"} {
		t.Run("encryption "+encryption, func(t *testing.T) {
			server := servertest.StartSamba(t, servertest.SambaOptions{Encryption: encryption})
			path, _ := server.Folder(t)
			breaker := servertest.NewBreaker()
			checked, err := store.CheckOptions(smb.Provider{}, optionsOf(server, path), true)
			if err != nil {
				t.Fatal(err)
			}
			account := opening(checked, server.Password)
			account.Dial = breaker.Dial
			s, err := smb.Provider{}.Open(t.Context(), account)
			if err != nil {
				t.Fatal(err)
			}
			storetest.Broken(t, s, breaker.BreakAfter)
		})
	}
}

func TestSharesAreListed(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("Samba lists its shares where it is installed, or started by root")
	}
	server := servertest.StartSamba(t, servertest.SambaOptions{})
	options := optionsOf(server, "")
	delete(options, "share")
	delete(options, "path")
	found, err := smb.Provider{}.ListResources(t.Context(), opening(options, server.Password))
	if err != nil || fmt.Sprint(found) != "[{Permits  } {Surveys  }]" {
		t.Errorf("behind the sign-in there are %v, %v", found, err)
	}
	options["share"] = "None"
	if _, err := openErr(t.Context(), options, server.Password); err == nil || !strings.Contains(err.Error(), "there are Permits, Surveys") {
		t.Errorf("a share that is missing: %v; want it to name those that there are", err)
	}
}

func TestSignIns(t *testing.T) {
	server := servertest.StartSamba(t, servertest.SambaOptions{Encryption: "off"})
	encrypted := servertest.StartSamba(t, servertest.SambaOptions{Encryption: "required"})
	for _, c := range []struct {
		name     string
		server   *servertest.Samba
		options  map[string]string
		password string
		kind     error
		option   string
		says     string
	}{
		{"the password", server, nil, server.Password + "\n", nil, "", ""},
		{"a domain before the user", server, map[string]string{"user": `HERONS\` + server.User}, server.Password, nil, "", ""},
		{"another password", server, nil, "wrong", store.ErrSignInExpired, "", "name or its password is wrong"},
		{"nobody's name", server, map[string]string{"user": "nobody-at-all"}, server.Password, store.ErrSignInExpired, "",
			"does not accept the user"},
		{"a share that is missing", server, map[string]string{"share": "None"}, server.Password, nil, "share", "there is no share None"},
		{"a path for a share", server, map[string]string{"share": `\\host\share`}, server.Password, nil, "share", "give the name alone"},
		{"a folder that is missing", server, map[string]string{"path": "none/such"}, server.Password, store.ErrNotFound, "",
			"give another path"},
		{"no encryption where it is asked for", server, map[string]string{"encryption": "required"}, server.Password, store.ErrRefused, "",
			"does not encrypt"},
		{"encryption where it is asked for", encrypted, map[string]string{"encryption": "required"}, encrypted.Password, nil, "", ""},
		{"a port that nothing listens on", server, map[string]string{"port": "1"}, server.Password, store.ErrTryAgain, "", "cannot be reached"},
	} {
		path, _ := c.server.Folder(t)
		options := optionsOf(c.server, path)
		maps.Copy(options, c.options)
		s, err := openErr(t.Context(), options, c.password)
		var option *store.OptionError
		switch {
		case c.option != "":
			if !errors.As(err, &option) || option.Option != c.option || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v; want --%s to be wrong, and %q", c.name, err, c.option, c.says)
			}
		case c.kind == nil && err != nil, c.kind != nil && (store.KindOf(err) != c.kind || !strings.Contains(err.Error(), c.says)):
			t.Errorf("%s: %v; want %v, and %q", c.name, err, c.kind, c.says)
		}
		if err == nil {
			s.(interface{ Close() error }).Close()
		}
	}
}

// TestRemovedAgain removes a folder that was created again after its first removal was broken off: what
// that left is removed, too, unless it holds something.
func TestRemovedAgain(t *testing.T) {
	server := servertest.StartSamba(t, servertest.SambaOptions{})
	path, local := server.Folder(t)
	s := open(t, server, path)
	aside := store.ArrivingName("removed", "aside-again")
	for _, left := range []string{aside, filepath.Join(aside, "held")} {
		for _, name := range []string{left, "again"} {
			if err := os.MkdirAll(filepath.Join(local, name), 0o777); err != nil {
				t.Fatal(err)
			}
			if err := os.Chmod(filepath.Join(local, name), 0o777); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := s.RemoveFolder(t.Context(), store.At("again").As(store.KindFolder)); err != nil {
			t.Error(err)
		}
		entries, err := os.ReadDir(local)
		if want := map[bool]int{true: 1}[left != aside]; err != nil || len(entries) != want {
			t.Errorf("after %s: %v, %v, want %d", left, entries, err, want)
		}
	}
}

// TestLetterCaseDoesNotCount creates, finds and renames by other letters.
func TestLetterCaseDoesNotCount(t *testing.T) {
	server := servertest.StartSamba(t, servertest.SambaOptions{})
	path, local := server.Folder(t)
	s := open(t, server, path)
	write := func(name string, condition store.Condition) error {
		_, err := s.Write(t.Context(), store.Writing{Place: store.At(name), Size: 1, If: condition, Run: "case", Content: storetest.Text("x")})
		return err
	}
	if err := write("Report.txt", store.Absent); err != nil {
		t.Fatal(err)
	}
	if err := write("REPORT.TXT", store.Absent); !errors.Is(err, store.ErrExists) {
		t.Errorf("the same name in other letters: %v", err)
	}
	if _, err := s.Stat(t.Context(), store.At("report.txt")); err != nil {
		t.Errorf("found by other letters: %v", err)
	}
	if _, err := store.Move(t.Context(), s, store.At("Report.txt"), "", store.At("report.TXT")); err != nil {
		t.Errorf("renamed to other letters: %v", err)
	}
	names, _ := os.ReadDir(local)
	if len(names) != 1 || names[0].Name() != "report.TXT" {
		t.Errorf("on the disk there are %v", names)
	}
}

// TestReplacedInPieces leaves what a process that died while it replaced a file
// leaves, and has it put back.
func TestReplacedInPieces(t *testing.T) {
	server := servertest.StartSamba(t, servertest.SambaOptions{})
	path, local := server.Folder(t)
	s := open(t, server, path)
	long := strings.Repeat("n", 240) + ".txt"
	for name, content := range map[string]string{
		store.ArrivingName("r1", "aside-report.txt"): "old", store.ArrivingName("r1", "00ff00ff00ff00ff"): "half of the n",
		store.ArrivingName("r2", "00ff00ff00ff00ff"):            "of another run",
		filepath.Join(store.ArrivingName("r1", "asides"), long): "old and long",
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(local, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(local, name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := store.Clean(t.Context(), s, store.Cleaning{Run: "r1"}); err != nil {
		t.Fatal(err)
	}
	var names []string
	entries, _ := os.ReadDir(local)
	for _, entry := range entries {
		names = append(names, entry.Name())
	}
	if fmt.Sprint(names) != fmt.Sprint([]string{store.ArrivingName("r2", "00ff00ff00ff00ff"), long, "report.txt"}) {
		t.Errorf("there are %q", names)
	}
	// A long name is replaced by way of a folder of ours.
	if _, err := s.Write(t.Context(), store.Writing{Place: store.At(long), Size: 3, If: store.Any, Run: "r3",
		Content: storetest.Text("new")}); err != nil {
		t.Fatal(err)
	}
	if data, err := os.ReadFile(filepath.Join(local, long)); string(data) != "new" {
		t.Errorf("the long one holds %q, %v", data, err)
	}
	if entries, _ := os.ReadDir(local); len(entries) != 3 {
		t.Errorf("%d entries are left", len(entries))
	}
}

func TestFullDisk(t *testing.T) {
	server := servertest.StartSamba(t, servertest.SambaOptions{})
	storetest.Full(t, open(t, server, server.Small(t)), servertest.SmallDisk)
}

func TestManyRequestsInFlight(t *testing.T) {
	server := servertest.StartSamba(t, servertest.SambaOptions{})
	path, _ := server.Folder(t)
	checked, err := store.CheckOptions(smb.Provider{}, optionsOf(server, path), true)
	if err != nil {
		t.Fatal(err)
	}
	const delay = 20 * time.Millisecond
	account := opening(checked, server.Password)
	account.Dial = servertest.Distant(delay)
	s, err := smb.Provider{}.Open(t.Context(), account)
	if err != nil {
		t.Fatal(err)
	}
	defer store.Close(s)
	storetest.Distant(t, s, delay)
}

func TestNothingConnectsAnewOnceItIsClosed(t *testing.T) {
	server := servertest.StartSamba(t, servertest.SambaOptions{})
	s := open(t, server, "")
	if _, err := s.Stat(t.Context(), store.Ref{}); err != nil {
		t.Fatal(err)
	}
	s.(interface{ Close() error }).Close()
	if _, err := s.Stat(t.Context(), store.Ref{}); store.KindOf(err) != store.ErrTryAgain {
		t.Errorf("once closed: %v", err)
	}
}

// TestManyFoldersAreListed lists 200 folders over again, all at once, so that credits
// run short: a request for more bytes than its credits stand for is refused (MS-SMB2,
// section 3.3.5.2.5).
func TestManyFoldersAreListed(t *testing.T) {
	for _, encryption := range []string{"off", "required"} {
		t.Run("encryption "+encryption, func(t *testing.T) {
			server := servertest.StartSamba(t, servertest.SambaOptions{Encryption: encryption})
			path, folder := server.Folder(t)
			for i := range 200 {
				below := filepath.Join(folder, fmt.Sprint(i))
				if err := os.Mkdir(below, 0o777); err != nil {
					t.Fatal(err)
				}
				if err := os.WriteFile(filepath.Join(below, "file"), []byte("x"), 0o666); err != nil {
					t.Fatal(err)
				}
			}
			for range 10 { // a connection of its own begins with few credits
				s := open(t, server, path)
				for range 5 {
					var group errgroup.Group
					group.SetLimit(32)
					for i := range 200 {
						group.Go(func() error {
							entries := 0
							for _, err := range s.List(t.Context(), store.At(fmt.Sprint(i)).AsFolder()) {
								if err != nil {
									return err
								}
								entries++
							}
							if entries != 1 {
								return fmt.Errorf("folder %d has %d entries", i, entries)
							}
							return nil
						})
					}
					if err := group.Wait(); err != nil {
						t.Fatal(err)
					}
				}
			}
		})
	}
}
