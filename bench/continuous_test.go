package bench

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/servertest"
	"deftheron/standin"
)

// changes is how many changes are measured at each drive, at a scale of 100.
const changes = 250

// TestBenchContinuous measures how long a change at a drive takes to be visible at a
// folder that is kept as the drive is, and what that costs in requests while nothing
// changes.
func TestBenchContinuous(t *testing.T) {
	skip(t)
	p := build(t)
	c := startClouds(t)
	h, _ := serve(t, p.heron, filepath.Join(scratch(t), "data"), servertest.FreeAddress(t))
	disk := scratch(t)
	h.link(contract.Link{Provider: "folder", Name: "disk", Options: map[string]string{"path": disk}})
	ctx := t.Context()
	for _, drive := range []struct {
		link    contract.Link
		user    string
		control *standin.Control
	}{
		{contract.Link{Provider: "alder", Name: "office-drive", Options: map[string]string{"url": c.AlderURL}}, "office@tolland.example",
			c.Alder.Control},
		{contract.Link{Provider: "sedge", Name: "field-drive", Options: map[string]string{"url": c.SedgeURL, "client-id": "own"},
			Secret: "own-secret"}, "surveys@fenmere.example", c.Sedge.Control},
	} {
		name := drive.link.Name
		consent(t, h, drive.link, drive.user)
		_, err := h.client.MakeFolder(ctx, contract.NewFolder{Address: "/" + name + "/Work"})
		spec := contract.JobSpec{Name: name, Type: "mirror", Routes: []contract.Route{{From: "/" + name + "/Work", To: "/disk/" + name}},
			Safety: contract.Safety{Overwrites: "none"}}
		spec.When.Continuous = true
		if err == nil {
			_, err = h.client.CreateJob(ctx, contract.NewJob{Spec: spec})
		}
		if err != nil {
			t.Fatal(err)
		}
		watching(t, ctx, h, name)
		var took []float64
		for i := range changes * *scale / 100 {
			content := fmt.Sprint("change ", i)
			file := fmt.Sprintf("%d.txt", i%50) // new, and then changed again and again
			put(t, h, "/"+name+"/Work/"+file, content)
			begun := time.Now()
			for {
				if got, err := os.ReadFile(filepath.Join(disk, name, file)); err == nil && string(got) == content {
					break
				}
				if time.Since(begun) > 30*time.Second {
					t.Fatalf("%s at %s does not come", content, name)
				}
				time.Sleep(2 * time.Millisecond)
			}
			took = append(took, time.Since(begun).Seconds())
		}
		slices.Sort(took)
		median, last := took[len(took)/2], took[len(took)*99/100]
		figure("change to visible, "+name+", median", "< 1 s", median, "s", median < 1)
		figure("change to visible, "+name+", 99th percentile", "< 3 s", last, "s", last < 3)
		time.Sleep(65 * time.Second * time.Duration(*scale) / 100) // a while in which nothing changes
		drive.control.Forget()
		begun := time.Now()
		time.Sleep(20 * time.Second * time.Duration(*scale) / 100)
		asked := 0
		for route, n := range drive.control.Requests() {
			if !strings.HasPrefix(route, "/control") {
				asked += n
			}
		}
		t.Logf("%s, idle: %.0f requests a minute", name, float64(asked)/time.Since(begun).Minutes())
	}
}

// put writes a file, over what is there.
func put(t *testing.T, h *heron, address, content string) {
	t.Helper()
	upload := client.Upload{Address: address, Size: int64(len(content)), Body: strings.NewReader(content)}
	if entry, err := h.client.Stat(t.Context(), address); err == nil {
		upload.Replace = entry.Revision
	}
	if _, err := h.client.Write(t.Context(), upload); err != nil {
		t.Fatal(err)
	}
}

// watching waits until the run of a job waits for changes.
func watching(t *testing.T, ctx context.Context, h *heron, name string) {
	t.Helper()
	for begun := time.Now(); time.Since(begun) < 30*time.Second; time.Sleep(20 * time.Millisecond) {
		if job, err := h.client.Job(ctx, name); err == nil && job.Last != nil && job.Last.Watching {
			return
		}
	}
	t.Fatalf("%s does not come to wait for changes", name)
}
