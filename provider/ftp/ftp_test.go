package ftp_test

import (
	"context"
	"maps"
	"testing"

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
	return ftp.Provider{}.Open(ctx, store.Opening{Options: checked, Secrets: store.FixedSecret(password), Gate: store.NewGate("ftp", 16, 64)})
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
