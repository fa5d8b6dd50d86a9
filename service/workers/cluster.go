package workers

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"

	"deftheron/core/lease"
	"deftheron/core/remedy"
	"deftheron/service/workers/stream"
)

// Cluster is a message server outside, or several of them, which keeps the units of work in place of the
// one that the service embeds. Workers connect to the service in any case.
type Cluster struct {
	// URL is one or several addresses, with commas between them; empty for none.
	URL string
	// Credentials is a file of credentials, or of an NKey seed; empty for none.
	Credentials string
	// CAFile has certificates that the servers' are trusted by; empty for the system's.
	CAFile string
	// Name identifies the units of this service.
	Name string
}

// connect connects to the cluster.
func (c Cluster) connect() (*nats.Conn, error) {
	options := []nats.Option{nats.Name("heron " + c.Name), nats.MaxReconnects(-1), nats.Timeout(5 * time.Second)}
	if c.CAFile != "" {
		options = append(options, nats.RootCAs(c.CAFile))
	}
	switch {
	case strings.HasSuffix(c.Credentials, ".nk"):
		seed, err := nats.NkeyOptionFromSeed(c.Credentials)
		if err != nil {
			return nil, err
		}
		options = append(options, seed)
	case c.Credentials != "":
		options = append(options, nats.UserCredentials(c.Credentials))
	}
	connection, err := nats.Connect(c.URL, options...)
	if err != nil {
		return nil, remedy.Errorf("the message server at %s cannot be used (%v); check its address, its sign-in and that JetStream is enabled",
			withoutPassword(c.URL), err)
	}
	return connection, nil
}

// withoutPassword returns addresses without what they may have of sign-ins.
func withoutPassword(urls string) string {
	var all []string
	for _, one := range strings.Split(urls, ",") {
		if at := strings.LastIndexByte(one, '@'); at >= 0 {
			scheme, _, _ := strings.Cut(one, "://")
			one = scheme + "://" + one[at+1:]
		}
		all = append(all, one)
	}
	return strings.Join(all, ",")
}

// Check returns an error if addresses or files are wrong. It asks no server: one that is away keeps nobody
// from starting.
func (c Cluster) Check() error {
	if c.URL == "" {
		if c.Credentials != "" || c.CAFile != "" {
			return remedy.New("credentials or certificates of a message server are given, and no server; name it with --nats URL")
		}
		return nil
	}
	for _, one := range strings.Split(c.URL, ",") {
		address, err := url.Parse(strings.TrimSpace(one))
		if err != nil || address.Host == "" || !slices.Contains([]string{"nats", "tls", "ws", "wss"}, address.Scheme) {
			return remedy.Errorf("%q is not an address of a message server; write it as nats://HOST:PORT or tls://HOST:PORT",
				withoutPassword(one))
		}
	}
	for _, file := range []string{c.Credentials, c.CAFile} {
		if file == "" {
			continue
		}
		if _, err := os.ReadFile(file); err != nil {
			return remedy.Errorf("the file %s for the message server cannot be read (%v); name another", file, err)
		}
	}
	return nil
}

// open opens the stream: on three servers if there are so many.
func (c Cluster) open(ctx context.Context, connection *nats.Conn) (opened *stream.Queue, err error) {
	for _, replicas := range []int{3, 1} {
		opened, err = stream.Open(ctx, connection, stream.Options{Name: "heron-" + c.Name, Replicas: replicas})
		if err == nil {
			return opened, nil
		}
	}
	return nil, remedy.Errorf("the message server at %s keeps no units of work (%v); enable JetStream there", withoutPassword(c.URL), err)
}

// units returns where the units of runs are kept: a stream, or the memory of this process if there is
// none, since they are not the truth about anything.
func (w *Workers) units() lease.Queue {
	w.opening.Lock()
	defer w.opening.Unlock()
	w.mu.Lock()
	known, started := w.queue, w.bus
	w.mu.Unlock()
	if known != nil {
		return known
	}
	if started == nil {
		return &lease.Memory{}
	}
	opened, err := w.openUnits(started)
	if err != nil {
		w.log.WarnContext(w.ctx, "units of work are kept in memory", "error", err)
		return &lease.Memory{}
	}
	w.mu.Lock()
	w.queue = opened
	w.mu.Unlock()
	return opened
}

func (w *Workers) openUnits(started *bus) (*stream.Queue, error) {
	if w.Cluster.URL != "" {
		connection, err := w.Cluster.connect()
		if err != nil {
			return nil, err
		}
		opened, err := w.Cluster.open(w.ctx, connection)
		if err != nil {
			connection.Close()
			return nil, err
		}
		context.AfterFunc(w.ctx, connection.Close)
		return opened, nil
	}
	if w.Store == "" {
		return nil, errors.New("there is no folder for them")
	}
	if !started.server.JetStreamEnabled() {
		const mostMemory, mostStore = 16 << 20, 256 << 20
		err := started.server.EnableJetStream(&server.JetStreamConfig{StoreDir: filepath.Join(w.Store, "units"), MaxMemory: mostMemory,
			MaxStore: mostStore})
		if err != nil {
			return nil, fmt.Errorf("start the store of messages: %w", err)
		}
	}
	return stream.Open(w.ctx, started.client, stream.Options{Name: "units"})
}
