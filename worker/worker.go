// Package worker is the program on a second machine that reaches places for a service: it joins
// once with a code, dials out to the service, opens the accounts that the service names, and answers
// requests to them. Only its keys are kept on its disk.
package worker

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/nats-io/nkeys"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/provider/site"
)

// keysFile is the file in the data folder that holds what the worker is.
const keysFile = "worker.json"

// keys are what a worker is: which service it belongs to, and its keys there.
type keys struct {
	URL      string `json:"url"`
	ID       string `json:"id"`
	Name     string `json:"name"`
	Site     string `json:"site"`
	Instance string `json:"instance"`
	Seed     string `json:"seed"`     // of the NKey
	Identity string `json:"identity"` // of age
}

// Options are what a worker is started with.
type Options struct {
	// Data is the data folder, which holds the keys.
	Data string
	// Folders are the folders of this machine below which accounts may be; none if empty.
	Folders []string
	// CAFile holds further certificates to trust, in PEM; empty trusts only the system's.
	CAFile string
	// Parallel is how many contents are copied at once; 0 is UsualParallel.
	Parallel int
	// Scratch is the folder for content whose size is not known until it was read; empty is the system's.
	Scratch string
	// Providers are the kinds of places that accounts can be at.
	Providers []store.Provider
	Version   string
	Log       *slog.Logger
}

// Joining is how a worker joins.
type Joining struct {
	URL, Code string
	// Again replaces the keys of the worker that this machine was.
	Again bool
}

// Join joins a service with a code and keeps the keys. It returns the name and the site of the worker.
func Join(ctx context.Context, options Options, joining Joining) (name, at string, err error) {
	if err := checkURL(joining.URL); err != nil {
		return "", "", err
	}
	path := filepath.Join(options.Data, keysFile)
	if _, err := os.Stat(path); err == nil && !joining.Again {
		return "", "", remedy.Errorf("this machine is a worker already (%s); give --again to have it join once more", path)
	}
	if err := os.MkdirAll(options.Data, 0o700); err != nil {
		return "", "", remedy.Errorf("the data folder %s cannot be made (%v); name another with --data", options.Data, err)
	}
	made, err := newKeys()
	if err != nil {
		return "", "", err
	}
	user, err := nkeys.FromSeed([]byte(made.Seed))
	if err != nil {
		return "", "", err
	}
	public, err := user.PublicKey()
	if err != nil {
		return "", "", err
	}
	identity, err := age.ParseX25519Identity(made.Identity)
	if err != nil {
		return "", "", err
	}
	transport, err := options.transport()
	if err != nil {
		return "", "", err
	}
	defer transport.CloseIdleConnections()
	joined, err := (&client.Client{URL: joining.URL, HTTP: &http.Client{Transport: transport}}).JoinWorker(ctx, contract.JoinWorker{
		Code: joining.Code, Key: public, Recipient: identity.Recipient().String(), Version: options.Version,
		System: runtime.GOOS + "/" + runtime.GOARCH, Protocol: site.Protocol,
	})
	if err != nil {
		return "", "", err
	}
	made.URL, made.Instance = strings.TrimSuffix(joining.URL, "/"), joined.Instance
	made.ID, made.Name, made.Site = joined.ID, joined.Name, joined.Site
	return joined.Name, joined.Site, made.save(path)
}

func newKeys() (keys, error) {
	user, err := nkeys.CreateUser()
	if err != nil {
		return keys{}, err
	}
	seed, err := user.Seed()
	if err != nil {
		return keys{}, err
	}
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return keys{}, err
	}
	return keys{Seed: string(seed), Identity: identity.String()}, nil
}

// save keeps the keys for this user alone.
func (k keys) save(path string) error {
	text, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	temporary := path + ".new"
	if err := os.WriteFile(temporary, append(text, '\n'), 0o600); err != nil {
		return fmt.Errorf("keep the keys of the worker: %w", err)
	}
	if err := os.Chmod(temporary, 0o600); err != nil { // one that was there may have been open to others
		return err
	}
	return os.Rename(temporary, path)
}

// load reads the keys, and refuses those that others can read.
func load(data string) (keys, error) {
	path := filepath.Join(data, keysFile)
	var k keys
	info, err := os.Stat(path)
	if errors.Is(err, os.ErrNotExist) {
		return k, remedy.Errorf("this machine is no worker yet (%s is not there); join a service with heron worker join URL CODE", path)
	}
	if err != nil {
		return k, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return k, remedy.Errorf("others can read the keys of the worker (%s has the mode %#o); run chmod 600 %s", path, info.Mode().Perm(), path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return k, err
	}
	if err := json.Unmarshal(text, &k); err != nil {
		return k, remedy.Errorf("%s cannot be read (%v); join the service again with heron worker join URL CODE --again", path, err)
	}
	return k, checkURL(k.URL)
}

// checkURL refuses a service that would be spoken to in the clear over a network.
func checkURL(text string) error {
	parsed, err := url.Parse(text)
	if err != nil || parsed.Host == "" || parsed.Scheme != "https" && parsed.Scheme != "http" {
		return remedy.Errorf("%q is not the address of a service; give it as https://HOST:PORT", text)
	}
	host := parsed.Hostname()
	if parsed.Scheme == "http" && host != "localhost" && !strings.HasPrefix(host, "127.") && host != "::1" {
		return remedy.Errorf("%s would be spoken to in the clear over the network; use https", text)
	}
	return nil
}

// transport sends requests to the service: over HTTP/1.1, so that each stream has a connection of its own
// and is held back by it alone.
func (o Options) transport() (*http.Transport, error) {
	roots, err := o.roots()
	if err != nil {
		return nil, err
	}
	return &http.Transport{
		Proxy: http.ProxyFromEnvironment, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: roots},
		TLSNextProto:        map[string]func(string, *tls.Conn) http.RoundTripper{},
		TLSHandshakeTimeout: 10 * time.Second, MaxIdleConnsPerHost: 64, IdleConnTimeout: 90 * time.Second,
		WriteBufferSize: 256 << 10, ReadBufferSize: 256 << 10, DisableCompression: true, ResponseHeaderTimeout: 5 * time.Minute,
	}, nil
}

// roots returns the certificates to trust; nil trusts the system's.
func (o Options) roots() (*x509.CertPool, error) {
	if o.CAFile == "" {
		return nil, nil
	}
	text, err := os.ReadFile(o.CAFile)
	if err != nil {
		return nil, remedy.Errorf("the certificates cannot be read (%v); name a PEM file with --ca-file", err)
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(text) {
		return nil, remedy.Errorf("%s holds no certificate in PEM; name another file with --ca-file", o.CAFile)
	}
	return pool, nil
}

// readAll reads a short answer.
func readAll(body io.ReadCloser) string {
	defer body.Close()
	text, _ := io.ReadAll(io.LimitReader(body, 1<<10))
	return strings.TrimSpace(string(text))
}
