package bench

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/contract"
)

// churned is a tree that somebody works in while a job keeps another in sync with it,
// and the service is killed. What the job may not do is to change it.
type churned struct {
	t            *testing.T
	h            *heron
	job          string
	root, target string
	random       *rand.Rand
	// want are the hashes of all files by their paths below root.
	want   map[string]string
	writes int
}

// churnedTime is the time of most files, as an archive gives them that fixes times.
var churnedTime = time.Date(2025, 5, 5, 5, 5, 5, 0, time.UTC)

// churn makes a tree of files of few sizes and one time, and a job of a type that keeps
// another in sync with it. A mirror reads by way of an account that is read-only and
// begins at a folder.
func churn(t *testing.T, h *heron, kind string, files int, random *rand.Rand) *churned {
	t.Helper()
	top := t.TempDir()
	c := &churned{t: t, h: h, job: kind, root: filepath.Join(top, "source", "all"), target: filepath.Join(top, "target", "all"),
		random: random, want: map[string]string{}}
	for i := range files {
		c.write(fmt.Sprintf("folder %d/file %d.bin", i%7, i))
	}
	c.write("names/not UTF-8 \xff\xfe.txt")
	c.write("names/é 本.txt")
	if err := os.Mkdir(filepath.Dir(c.target), 0o777); err != nil {
		t.Fatal(err)
	}
	h.link(contract.Link{Provider: "folder", Name: kind + "-source", Start: "source", ReadOnly: kind == "mirror",
		Options: map[string]string{"path": top}})
	h.link(contract.Link{Provider: "folder", Name: kind + "-target", Options: map[string]string{"path": filepath.Dir(c.target)}})
	_, err := h.client.CreateJob(t.Context(), contract.NewJob{Spec: contract.JobSpec{
		Name: kind, Type: kind, Routes: []contract.Route{{From: "/" + kind + "-source/all", To: "/" + kind + "-target/all"}},
		Safety:   contract.Safety{Deletions: "none", Overwrites: "none", Older: "none"},
		Settings: contract.Settings{Rules: contract.Rules{Deletions: "delete"}, Retry: contract.Retry{Tries: 3}},
	}})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// write writes a file as an archive does: in place where it is there, at a fixed time.
func (c *churned) write(path string) {
	c.t.Helper()
	c.writes++
	content := fmt.Appendf(nil, "%s %012d %s", path[:3], c.writes, strings.Repeat("x", 1000*c.random.IntN(3)))
	full := filepath.Join(c.root, path)
	if err := os.MkdirAll(filepath.Dir(full), 0o777); err != nil {
		c.t.Fatal(err)
	}
	if err := os.WriteFile(full, content, 0o666); err != nil {
		c.t.Fatal(err)
	}
	if err := os.Chtimes(full, churnedTime, churnedTime); err != nil {
		c.t.Fatal(err)
	}
	sum := sha256.Sum256(content)
	c.want[path] = hex.EncodeToString(sum[:])
}

func (c *churned) remove(path string) {
	c.t.Helper()
	if err := os.Remove(filepath.Join(c.root, path)); err != nil {
		c.t.Fatal(err)
	}
	delete(c.want, path)
}

// work does a few things that people do.
func (c *churned) work() {
	c.t.Helper()
	for range 1 + c.random.IntN(6) {
		path := ""
		for path = range c.want { // whichever comes first
			break
		}
		switch c.random.IntN(6) {
		case 0:
			c.write(path)
		case 1: // a new file, which may get the inode of the old one
			c.remove(path)
			c.write(fmt.Sprintf("folder %d/new %d.bin", c.random.IntN(7), c.writes))
		case 2:
			to := fmt.Sprintf("moved/to %d.bin", c.writes)
			c.writes++
			if err := os.MkdirAll(filepath.Join(c.root, "moved"), 0o777); err != nil {
				c.t.Fatal(err)
			}
			if err := os.Rename(filepath.Join(c.root, path), filepath.Join(c.root, to)); err != nil {
				c.t.Fatal(err)
			}
			c.want[to] = c.want[path]
			delete(c.want, path)
		case 3: // a folder in place of the file
			c.remove(path)
			c.write(path + "/in it")
		case 4: // a file in place of the folder
			if folder, inside := filepath.Split(path); inside == "in it" {
				c.remove(path)
				if err := os.Remove(filepath.Join(c.root, folder)); err != nil {
					c.t.Fatal(err)
				}
				c.write(strings.TrimSuffix(folder, "/"))
			}
		case 5:
			c.write(fmt.Sprintf("folder %d/more %d.bin", c.random.IntN(7), c.writes))
		}
	}
}

// start starts the job, unless it runs.
func (c *churned) start() {
	c.t.Helper()
	job, err := c.h.client.Job(c.t.Context(), c.job)
	if err != nil {
		c.t.Fatal(err)
	}
	if job.Last == nil || job.Last.State.Ended() {
		if _, err := c.h.client.StartJob(c.t.Context(), c.job); err != nil {
			c.t.Fatal(err)
		}
	}
}

// settle runs the job until there is nothing to do, and compares both trees with what
// the people left.
func (c *churned) settle() {
	c.t.Helper()
	deadline := time.Now().Add(2 * time.Minute)
	for quiet := 0; quiet < 2; time.Sleep(50 * time.Millisecond) {
		job, err := c.h.client.Job(c.t.Context(), c.job)
		if err != nil {
			c.t.Fatal(err)
		}
		if time.Now().After(deadline) {
			c.t.Errorf("%s does not settle: %+v", c.job, job.Last)
			return
		}
		if job.Last != nil && !job.Last.State.Ended() {
			continue
		}
		if job.Last != nil && job.Last.State == "done" && job.Last.Items.Done == 0 {
			quiet++
		} else {
			quiet = 0
		}
		if quiet < 2 {
			c.start()
		}
	}
	same(c.t, c.job+", where people worked", sums(c.t, c.root), c.want)
	same(c.t, c.job+", at the target", sums(c.t, c.target), c.want)
	for _, root := range []string{c.root, c.target} {
		leftOver(c.t, c.job, root)
	}
}
