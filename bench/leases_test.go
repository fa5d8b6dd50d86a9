package bench

import (
	"encoding/binary"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
	"deftheron/service/workers/stream"
)

// TestBenchLeases measures how many items a second are offered in units of 64, leased through JetStream, done,
// and recorded with their pairs.
func TestBenchLeases(t *testing.T) {
	skip(t)
	items, unitSize := 400_000**scale/100, 64
	db, err := records.Open(scratch(t))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	const id = "leases"
	job := records.Job{ID: id, Name: id, Type: "copy", Routes: []records.Route{}, CreatedAt: time.Now(), OneOff: true}
	row := records.Run{ID: id, Job: id, State: "running", Routes: []records.Route{}, CreatedAt: time.Now()}
	if err := db.AddRun(t.Context(), &job, &row); err != nil {
		t.Fatal(err)
	}
	key := func(seq int64) store.Key { return store.Key(fmt.Sprintf("folder %04d/file %07d.bin", seq/100, seq)) }
	for from := 1; from <= items; from += 500 {
		var batch []transfer.Item
		for seq := int64(from); seq < int64(from+500); seq++ {
			batch = append(batch, transfer.Item{Seq: seq, Key: key(seq), Kind: store.KindFile, Action: plan.Create, Size: 4096,
				Source: compare.Remembered{Revision: fmt.Sprint("revision ", seq), Size: 4096}, State: transfer.Waiting})
		}
		if err := db.Enqueue(t.Context(), id, batch); err != nil {
			t.Fatal(err)
		}
	}
	embedded, err := server.NewServer(&server.Options{DontListen: true, NoSigs: true, NoLog: true, JetStream: true, StoreDir: scratch(t)})
	if err != nil {
		t.Fatal(err)
	}
	go embedded.Start()
	defer embedded.Shutdown()
	if !embedded.ReadyForConnections(10 * time.Second) {
		t.Fatal("the message server did not start")
	}
	connection, err := nats.Connect("", nats.InProcessServer(embedded))
	if err != nil {
		t.Fatal(err)
	}
	defer connection.Close()
	q, err := stream.Open(t.Context(), connection, stream.Options{Name: "units"})
	if err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	var offering, taking sync.WaitGroup
	offering.Go(func() {
		for from := 1; from <= items; from += unitSize {
			if err := q.Offer(t.Context(), "a", binary.AppendVarint(nil, int64(from))); err != nil {
				t.Error(err)
				return
			}
		}
	})
	endings := make(chan transfer.Ending, 1000)
	for range 8 {
		taking.Go(func() {
			for {
				taken, err := q.Take(t.Context(), "a")
				if err != nil { // all is done
					return
				}
				from, _ := binary.Varint(taken.Unit())
				for seq := from; seq < min(from+int64(unitSize), int64(items)+1); seq++ {
					pair := &compare.Pair{Key: key(seq), Source: compare.Remembered{Revision: fmt.Sprint("revision ", seq)},
						Target: compare.Remembered{Revision: fmt.Sprint("there ", seq)}, Run: id, Verification: "crc64nvme=0123456789abcdef"}
					endings <- transfer.Ending{Seq: seq, State: transfer.Done, Verification: "crc64nvme=0123456789abcdef (told by the target)",
						Moved: 4096, Attempts: 1, Ended: time.Now(), Pair: pair}
				}
				if err := taken.Done(t.Context()); err != nil {
					t.Error(err)
				}
				if from+int64(unitSize) > int64(items) {
					return
				}
			}
		})
	}
	var batch []transfer.Ending
	for done := 0; done < items; done++ {
		if batch = append(batch, <-endings); len(batch) == 500 || done == items-1 {
			if err := db.Finish(t.Context(), id, []string{"scope"}, batch); err != nil {
				t.Fatal(err)
			}
			batch = batch[:0]
		}
	}
	perSecond := float64(items) / time.Since(begun).Seconds()
	offering.Wait()
	if tally, err := db.Tally(t.Context(), id); err != nil || tally.Done != int64(items) {
		t.Errorf("%+v, %v", tally, err)
	}
	figure("workers: items leased through JetStream and recorded", "≥ 20,000/s", perSecond, "/s", perSecond >= 20_000)
}
