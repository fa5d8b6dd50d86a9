package sftp_test

import (
	"context"
	"testing"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/sftp"
	"deftheron/servertest"
)

// opened is an account, with the secret and the private key given.
func openErr(ctx context.Context, options map[string]string, credential store.Credential) (store.Store, error) {
	checked, err := store.CheckOptions(sftp.Provider{}, options, true)
	if err != nil {
		return nil, err
	}
	return sftp.Provider{}.Open(ctx, store.Opening{
		Options: checked, Secrets: store.FixedSecret(credential.Bytes()), Gate: store.NewGate("sftp", 16, 64),
	})
}

func open(t *testing.T, server *servertest.Shell, path string) store.Store {
	t.Helper()
	s, err := openErr(t.Context(), map[string]string{"host": server.Host, "port": server.Port, "user": server.User, "path": path}, store.Credential{Secret: server.Password})
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
