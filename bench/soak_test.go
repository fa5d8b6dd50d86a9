package bench

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/servertest"
)

// TestSoakKills copies 20,000 small files and one of 5 GiB in parts, kills the
// service at random moments, and starts it again, until the run has ended: every
// object must be there, none twice, and nothing left behind.
func TestSoakKills(t *testing.T) {
	if !*soak {
		t.Skip("only with -soak, as make soak does")
	}
	p := build(t)
	server := servertest.StartObjectStore(t)
	source, target := server.Bucket(t), server.Bucket(t)
	set := []object{{"all/large", 5 << 30 * int64(*scale) / 100}}
	for i := range 20_000 * *scale / 100 {
		set = append(set, object{fmt.Sprintf("all/small/%02d/%05d", i%50, i), 4096})
	}
	fill(t, server, source, set)

	data, address := filepath.Join(scratch(t), "data"), servertest.FreeAddress(t)
	var process *exec.Cmd
	start := func() {
		process = exec.Command(p.heron, "serve", "--data", data, "--listen", address, "--log-level", "error")
		process.Stderr = os.Stderr
		servertest.Start(t, process)
		servertest.WaitFor(t, address)
	}
	start()
	token, err := os.ReadFile(filepath.Join(data, "owner.token"))
	if err != nil {
		t.Fatal(err)
	}
	h := &heron{t, &client.Client{URL: "http://" + address, Token: strings.TrimSpace(string(token))}, 0, 0}
	for name, bucket := range map[string]string{"source": source, "target": target} {
		h.link(contract.Link{Provider: "s3", Name: name, Secret: server.Secret, Options: map[string]string{
			"endpoint": server.Endpoint, "bucket": bucket, "key": server.Key, "parts-above": "256",
		}})
	}
	started, err := h.client.Copy(t.Context(), contract.Copy{From: []string{"/source/all"}, To: "/target"})
	if err != nil {
		t.Fatal(err)
	}
	var run contract.Run
	kills := 0
	for deadline := time.Now().Add(20 * time.Minute); ; {
		<-time.After(time.Duration(500+rand.IntN(2500)) * time.Millisecond)
		if run, err = h.client.Run(t.Context(), started.Run); err != nil {
			t.Fatal(err)
		}
		if run.State.Ended() {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("not ended after %d kills: %+v", kills, run)
		}
		if kills < 25 {
			process.Process.Kill()
			process.Wait()
			kills++
			start()
		}
	}
	if run.State != "done" || run.Items.Done != int64(len(set)) {
		t.Errorf("%s, %+v; want %d done", run.State, run.Items, len(set))
		for item, err := range h.client.Items(t.Context(), run.ID, client.ItemFilter{State: "failed"}) {
			t.Logf("%+v, %v", item, err)
		}
	}
	core := server.Client(t)
	sizes := map[string]int64{}
	for _, o := range set {
		sizes[o.key] = o.size
	}
	for o := range core.Client.ListObjects(t.Context(), target, minio.ListObjectsOptions{Recursive: true}) {
		if o.Err != nil {
			t.Fatal(o.Err)
		}
		if size, there := sizes[o.Key]; (!there || size != o.Size) && !strings.HasPrefix(o.Key, ".heron/") {
			t.Errorf("%q with %d bytes is at the target", o.Key, o.Size)
		}
		delete(sizes, o.Key)
	}
	if len(sizes) > 0 {
		t.Errorf("%d objects are missing", len(sizes))
	}
	if open, err := core.ListMultipartUploads(t.Context(), target, "", "", "", "", 1000); err != nil || len(open.Uploads) > 0 {
		t.Errorf("uploads are left open: %+v, %v", open.Uploads, err)
	}
	fmt.Printf("%d kills, %d items, %d bytes: %s\n", kills, run.Items.Done, run.Bytes.Transferred, run.State)
}
