package smb_test

import (
	"context"
	"testing"

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
	return store.Opening{Options: options, Secrets: store.FixedSecret(password), Gate: store.NewGate("smb", 16, 64)}
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
