package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestOrganisation links all members of an organisation at once, mirrors them in one route
// and with a route for each, and has members join and leave.
func TestOrganisation(t *testing.T) {
	t.Parallel()
	h := start(t)
	c := clouds(t)
	archive := t.TempDir()
	h.linkFolder("archive", archive)
	put := func(mail, data string) {
		t.Helper()
		if err := c.Sedge.PutFor(mail, []string{"Surveys"}, "flow.csv", []byte(data)); err != nil {
			t.Fatal(err)
		}
	}
	for _, mail := range c.Sedge.Members() {
		put(mail, "flow of "+mail)
	}
	key := filepath.Join(t.TempDir(), "service-key.json")
	if err := os.WriteFile(key, c.Sedge.ServiceKey(), 0o600); err != nil {
		t.Fatal(err)
	}
	h.must("account", "link", "sedge", "org", "--url", c.SedgeURL, "--sign-in", "assertion", "--secret-file", key)
	if listed := h.must("ls", "/org"); !strings.Contains(listed, "40 folders") {
		t.Errorf("the organisation has %s", listed)
	}
	spec := filepath.Join(t.TempDir(), "jobs.yaml")
	writeFile(t, "job: org-whole\ntype: mirror\nroutes:\n  - {from: /org, to: /archive/whole}\n"+
		"---\njob: org-each\ntype: mirror\nroutes:\n  - {from: \"/org/*\", to: /archive/each}\n", spec)
	h.must("job", "load", spec, "--yes")
	holds := func(at, mail, want string) {
		t.Helper()
		got, err := os.ReadFile(filepath.Join(archive, at, mail, "Surveys", "flow.csv"))
		if string(got) != want {
			t.Errorf("%s of %s holds %q, %v; want %q", at, mail, got, err, want)
		}
	}
	for _, job := range []string{"org-whole", "org-each"} {
		h.must("job", "start", job)
	}
	for _, mail := range c.Sedge.Members() {
		holds("whole", mail, "flow of "+mail)
		holds("each", mail, "flow of "+mail)
	}

	joined, left := "diver-01@fenmere.example", "ranger-04@fenmere.example"
	c.Sedge.Join(joined)
	put(joined, "flow of one who joined")
	c.Sedge.Leave(left)
	h.must("job", "start", "org-each")
	holds("each", joined, "flow of one who joined")
	holds("each", left, "flow of "+left) // as it was

	before := moment()
	if r := h.run("", "job", "start", "org-whole"); r.code != 0 && r.code != 3 {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	holds("whole", joined, "flow of one who joined")
	if was := h.must("cat", "--at", before, "/archive/whole/"+left+"/Surveys/flow.csv"); was != "flow of "+left {
		t.Errorf("of who left, history has %q", was)
	}
	if r := h.run("", "rm", "--yes", "/org/"+joined); r.code == 0 {
		t.Error("a member was removed")
	}
}
