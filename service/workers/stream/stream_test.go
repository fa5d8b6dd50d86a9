package stream_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"

	"deftheron/core/lease/leasetest"
	"deftheron/servertest"
	"deftheron/service/workers/stream"
)

// start starts a message server in this process, and connects to it.
func start(t *testing.T) *nats.Conn {
	t.Helper()
	started, err := server.NewServer(&server.Options{DontListen: true, NoSigs: true, NoLog: true, JetStream: true, StoreDir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	go started.Start()
	t.Cleanup(func() { started.Shutdown(); started.WaitForShutdown() })
	if !started.ReadyForConnections(10 * time.Second) {
		t.Fatal("the server did not start")
	}
	connection, err := nats.Connect("", nats.InProcessServer(started))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(connection.Close)
	return connection
}

// conforms has streams of a server pass what every queue does.
func conforms(t *testing.T, connection *nats.Conn) {
	t.Helper()
	for name, test := range leasetest.Tests {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			const lasts = time.Second
			q, err := stream.Open(t.Context(), connection, stream.Options{Name: "units-" + strings.ReplaceAll(name, " ", "-"), Lasts: lasts})
			if err != nil {
				t.Fatal(err)
			}
			test(t, q, lasts)
		})
	}
}

func TestStreamConforms(t *testing.T) {
	conforms(t, start(t))
}

// TestStreamStartsEmpty has a service start again after it was killed.
func TestStreamStartsEmpty(t *testing.T) {
	connection := start(t)
	for start := range 2 {
		q, err := stream.Open(t.Context(), connection, stream.Options{Name: "units"})
		if err != nil {
			t.Fatal(err)
		}
		if err := q.Offer(t.Context(), "a", []byte{byte(start)}); err != nil {
			t.Fatal(err)
		}
		taken, err := q.Take(t.Context(), "a")
		if err != nil || taken.Unit()[0] != byte(start) {
			t.Fatalf("start %d: took %v, %v", start, taken, err)
		}
	}
}

// connect connects to servers outside of this process.
func connect(t *testing.T, servers *servertest.NATS) *nats.Conn {
	t.Helper()
	connection, err := nats.Connect(servers.URL, nats.MaxReconnects(-1), nats.ReconnectWait(50*time.Millisecond))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(connection.Close)
	return connection
}

func TestStreamConformsAtServer(t *testing.T) {
	t.Parallel()
	conforms(t, connect(t, servertest.StartNATS(t, 1)))
}

// TestStreamOfCluster has a cluster of three keep units, of which each server is killed once and started
// again: none is lost, and each is done.
func TestStreamOfCluster(t *testing.T) {
	t.Parallel()
	servers := servertest.StartNATS(t, 3)
	connection := connect(t, servers)
	var q *stream.Queue
	var err error
	for range 100 { // until the three have agreed on a leader
		if q, err = stream.Open(t.Context(), connection, stream.Options{Name: "units", Replicas: 3, Lasts: 2 * time.Second}); err == nil {
			break
		}
		<-time.After(100 * time.Millisecond)
	}
	if err != nil {
		t.Fatal(err)
	}
	const units = 60
	offered := make(chan error, 1)
	go func() {
		for i := range units {
			for try := 0; ; try++ { // whoever offers a unit offers it again
				err := q.Offer(context.Background(), "a", []byte{byte(i)})
				if err == nil {
					break
				}
				if try > 20 {
					offered <- err
					return
				}
				<-time.After(200 * time.Millisecond)
			}
			if i%20 == 10 {
				servers.Kill(i / 20)
			}
			if i%20 == 19 {
				servers.Start(t, i/20)
				<-time.After(2 * time.Second)
			}
		}
		offered <- nil
	}()
	done := map[byte]bool{}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	for len(done) < units {
		taken, err := q.Take(ctx, "a")
		if err != nil {
			if ctx.Err() != nil {
				t.Fatalf("%d of %d units were done: %v", len(done), units, err)
			}
			continue
		}
		if taken.Done(ctx) == nil {
			done[taken.Unit()[0]] = true
		}
	}
	if err := <-offered; err != nil {
		t.Error(err)
	}
}
