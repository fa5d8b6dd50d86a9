package webdav_test

import (
	"context"
	"net/http/httptest"
	"os"
	"testing"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/webdav"
	"deftheron/servertest"
	"deftheron/standin"
)

func open(t *testing.T, options map[string]string, password string) store.Store {
	t.Helper()
	s, err := openErr(t.Context(), options, password)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func openErr(ctx context.Context, options map[string]string, password string) (store.Store, error) {
	given := map[string]string{}
	for name, value := range options {
		if name != "start" {
			given[name] = value
		}
	}
	checked, err := store.CheckOptions(webdav.Provider{}, given, password != "")
	if err != nil {
		return nil, err
	}
	return webdav.Provider{}.Open(ctx, store.Opening{
		Options: checked, Secrets: store.FixedSecret(password), Gate: gate.New("webdav", 16, 64), Start: store.Path(options["start"]),
	})
}

func TestConformsOnApache(t *testing.T) {
	for _, c := range []struct {
		name   string
		digest bool
	}{{"basic", false}, {"digest", true}} {
		t.Run(c.name, func(t *testing.T) {
			server := servertest.StartApache(t, servertest.ApacheOptions{Digest: c.digest})
			storetest.Run(t, func(t *testing.T) store.Store {
				url, _ := server.Folder(t)
				return open(t, map[string]string{"url": url, "user": server.User}, server.Password)
			})
		})
	}
}

func TestStaleProbes(t *testing.T) {
	server := servertest.StartApache(t, servertest.ApacheOptions{})
	url, folder := server.Folder(t)
	place := open(t, map[string]string{"url": url, "user": server.User}, server.Password)
	storetest.StaleProbes(t, place, folder, func(path string) {
		if err := os.WriteFile(path, []byte("of a probe"), 0o666); err != nil {
			t.Fatal(err)
		}
		server.Give(t, folder)
	})
}

// x/net's server has other habits: it shows a file while it arrives, removes what
// is at the target of a move before it moves, and ignores conditions.
func TestConformsOnTheStandIn(t *testing.T) {
	storetest.Run(t, func(t *testing.T) store.Store { return standIn(t) })
}

func standIn(t *testing.T) store.Store {
	t.Helper()
	server := httptest.NewServer(standin.WebDAV(t.TempDir(), "gauge", "gauge's own"))
	t.Cleanup(server.Close)
	return open(t, map[string]string{"url": server.URL, "user": "gauge"}, "gauge's own")
}
