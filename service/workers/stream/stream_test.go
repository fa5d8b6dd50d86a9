package stream_test

import (
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"

	"deftheron/core/lease/leasetest"
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

func TestStreamConforms(t *testing.T) {
	connection := start(t)
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
