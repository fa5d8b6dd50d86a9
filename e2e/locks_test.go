package e2e

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/servertest"
)

// TestStoreLocks mirrors into buckets with and without Object Lock: history says of which
// versions the store itself keeps to the time.
func TestStoreLocks(t *testing.T) {
	t.Parallel()
	h := start(t)
	objects := servertest.StartVersionedObjectStore(t)
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	h.linkBucket("locking", objects, objects.LockedBucket(t))
	h.linkBucket("plain", objects, objects.Bucket(t))
	h.linkSealed("vault", "/locking/vault")
	for _, name := range []string{"locking", "plain", "vault"} {
		writeFile(t, "before", desk, "Reports", "flow.csv")
		spec := filepath.Join(t.TempDir(), "job.yaml")
		writeFile(t, "job: to-"+name+"\ntype: mirror\nroutes:\n  - {from: /desk/Reports, to: /"+name+"/reports}\n"+
			"history: {keep: {all: 60d}, locked: 30d}\nsafety: {overwrites: 100%, deletions: 100%}\n", spec)
		h.must("job", "load", spec, "--yes")
		h.must("job", "start", "to-"+name)
		time.Sleep(1100 * time.Millisecond) // times of objects are in whole seconds
		writeFile(t, "after it", desk, "Reports", "flow.csv")
		h.must("job", "start", "to-"+name)
		listed := h.must("history", "list", "/"+name+"/reports/flow.csv")
		if enforced := strings.Contains(listed, "(by the store too)"); enforced != (name != "plain") {
			t.Errorf("%s: enforced is %v:\n%s", name, enforced, listed)
		}
	}
}
