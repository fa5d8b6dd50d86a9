package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestShareLists migrates folders between drives with the people they are shared with: by
// a table, of which mistakes are found before the first pass, and with everything that could
// not be carried over in the survey and in the certificate.
func TestShareLists(t *testing.T) {
	t.Parallel()
	h := start(t)
	c := clouds(t)
	h.linkDrives(c)
	h.linkFolder("desk", t.TempDir())
	put := func(names ...string) {
		t.Helper()
		last := len(names) - 1
		if err := c.Sedge.Put(names[:last], names[last], []byte("data of "+names[last]), time.Unix(1700000000, 0)); err != nil {
			t.Fatal(err)
		}
	}
	share := func(owner string, people map[string]string, links int, names ...string) {
		t.Helper()
		if !c.Sedge.ShareWith(names, owner, people, links) {
			t.Fatalf("%q is not there", names)
		}
	}
	const surveyor, ranger, office, diver = "surveyor-01@fenmere.example", "ranger-01@fenmere.example", "office-01@fenmere.example",
		"hydrologist-09@fenmere.example"
	put("Weirs", "plan.txt")
	put("Weirs", "Gauges", "levels.csv")
	put("Weirs", "Gauges", "flow.csv")
	put("Weirs", "Other", "notes.txt")
	put("Weirs", "Other", "theirs.txt")
	c.Sedge.Document([]string{"Weirs"}, "text", "Minutes", "as agreed")
	share("", map[string]string{ranger: "writer"}, 0, "Weirs")
	share(surveyor, map[string]string{ranger: "commenter", diver: "reader"}, 1, "Weirs", "plan.txt")
	share("", map[string]string{surveyor: "writer", office: "reader"}, 0, "Weirs", "Gauges")
	share("", map[string]string{surveyor: "writer"}, 0, "Weirs", "Other")
	share(office, nil, 0, "Weirs", "Other", "notes.txt")
	share("", map[string]string{surveyor: "reader"}, 0, "Weirs", "Minutes")

	h.says("", 2, `one of "carry"`, "job", "create", "move", "--type", "migrate", "--share-lists", "all", "--from",
		"/field-drive/Weirs", "--to", "/office-drive/Weirs")
	h.says("", 2, "the job is a copy", "job", "create", "move", "--share-lists", "carry", "--from", "/field-drive/Weirs", "--to",
		"/office-drive/Weirs")
	h.must("job", "create", "move", "--type", "migrate", "--share-lists", "carry", "--from", "/field-drive/Weirs", "--to",
		"/office-drive/Weirs")
	h.says("", 0, "Start the survey first", "job", "people", "move")
	survey := h.job("move", 0)
	page := h.must("run", "report", survey.ID)
	for _, want := range []string{"6 entries have a share list", "Links that anybody may use, not carried over: 1", surveyor, diver} {
		if !strings.Contains(page, want) {
			t.Errorf("the survey does not say %q:\n%s", want, page)
		}
	}
	people := h.must("job", "people", "move")
	for _, want := range []string{ranger, "proposed: " + office, "Person not in the table"} {
		if !strings.Contains(people, want) {
			t.Errorf("the people are\n%s\nwithout %q", people, want)
		}
	}

	// A table that names somebody the target does not know stops the first pass before it
	// has copied anything.
	table := filepath.Join(t.TempDir(), "people.csv")
	writeFile(t, "old,new\n"+surveyor+",surveyor-99@tolland.example\n", table)
	h.must("job", "people", "move", "--set", table)
	first := h.job("move", 1)
	if first.Cause != "people-not-checked" || !strings.Contains(first.Why, "surveyor-99@tolland.example") || first.Bytes.Transferred != 0 {
		t.Errorf("the first pass with an unknown person: %+v", first)
	}
	for text, want := range map[string]string{"a,b\n": "does not begin with", "old,new\nx,\n": "line 2",
		"old,new\nA@b.example,\na@b.example,\n": "line 3",
		"old,new\n" + surveyor + "\n":           "has one column"} {
		writeFile(t, text, table)
		h.says("", 2, want, "job", "people", "move", "--set", table)
	}
	writeFile(t, "\ufeffold,new,note\r\n"+strings.ToUpper(surveyor)+",surveyor-01@tolland.example,moved\r\n"+ranger+
		",ranger-01@tolland.example,\r\n"+office+","+office+",a guest there\r\n"+diver+",,left\r\n", table)
	h.must("job", "people", "move", "--set", table)
	if out := h.must("job", "people", "move", "--csv"); !strings.Contains(out, diver+",,1,0,Person left out") {
		t.Errorf("the table as CSV:\n%s", out)
	}
	h.job("move", 0)
	if _, shared, _ := c.Alder.ShareList("/Weirs/plan.txt"); len(shared) > 0 {
		t.Errorf("shared before the final pass: %v", shared)
	}
	// Somebody works in one of the folders at the target: it holds more than the source's.
	theirs := filepath.Join(t.TempDir(), "private.txt")
	writeFile(t, "not for everybody", theirs)
	h.must("put", theirs, "/office-drive/Weirs/Other", "--yes")
	h.job("move", 0)
	final := h.job("move", 0)

	holds := func(path, owner string, want map[string]string) {
		t.Helper()
		is, shared, ok := c.Alder.ShareList(path)
		if !ok || is != owner || fmt.Sprint(shared) != fmt.Sprint(want) {
			t.Errorf("%s belongs to %q and is shared with %v; want %q and %v", path, is, shared, owner, want)
		}
	}
	none := map[string]string(nil)
	holds("/Weirs/plan.txt", "surveyor-01@tolland.example", map[string]string{"ranger-01@tolland.example": "view"})
	holds("/Weirs/Gauges", "", map[string]string{"surveyor-01@tolland.example": "edit", office: "view"})
	holds("/Weirs/Gauges/levels.csv", "", none)
	holds("/Weirs/Other", "", none)
	holds("/Weirs", "", none)
	holds("/Weirs/Other/notes.txt", "", map[string]string{office: "edit"}) // a guest cannot own it
	holds("/Weirs/Minutes.odt", "", map[string]string{"surveyor-01@tolland.example": "view"})

	made := h.shownJob("move").Migration.Certificate
	if made == nil || made.Sharing == nil || made.Sharing.Entries != 6 || made.Sharing.Carried != 4 || made.Sharing.Lesser != 2 ||
		made.Sharing.Missing != 4 {
		t.Fatalf("the certificate: %+v", made.Sharing)
	}
	missing := h.must("run", "report", final.ID, "--certificate", "--format", "people-csv")
	for _, want := range []string{
		"/field-drive/Weirs/plan.txt,/office-drive/Weirs/plan.txt,file,,,link,share-link",
		"ranger-01@fenmere.example,ranger-01@tolland.example,comment,share-lowered",
		diver + ",,view,person-left-out",
		"/field-drive/Weirs/Other,/office-drive/Weirs/Other,folder," + surveyor + ",surveyor-01@tolland.example,edit,folder-shows-more",
		"/field-drive/Weirs,/office-drive/Weirs,folder,ranger-01@fenmere.example,ranger-01@tolland.example,edit,folder-shows-more",
		office + "," + office + ",owner,owner-may-edit",
	} {
		if !strings.Contains(missing, want) {
			t.Errorf("the rights that are missing are\n%s\nwithout %q", missing, want)
		}
	}
	if page := h.must("run", "report", final.ID, "--certificate"); !strings.Contains(page, "4 rights were carried over") {
		t.Errorf("the certificate's page:\n%s", page)
	}
	// Its digest is over these lines too, and anybody can compute it.
	kept := filepath.Join(t.TempDir(), "certificate.json")
	h.must("run", "report", final.ID, "--certificate", "--out", kept)
	text, err := os.ReadFile(kept)
	if err != nil {
		t.Fatal(err)
	}
	checkDigest(t, string(text), made.Digest, 6, 6)
	if out := h.must("run", "report", "--check", kept); !strings.Contains(out, "not been altered") {
		t.Errorf("the check says %s", out)
	}

	// Another final pass, once the folder holds nothing else, carries the rest over and
	// changes nothing that is there.
	h.must("rm", "/office-drive/Weirs/Other/private.txt", "--yes")
	h.must("job", "start", "move", "--step", "final-pass")
	holds("/Weirs/Other", "", map[string]string{"surveyor-01@tolland.example": "edit"})
	holds("/Weirs", "", map[string]string{"ranger-01@tolland.example": "edit"})
	holds("/Weirs/plan.txt", "surveyor-01@tolland.example", map[string]string{"ranger-01@tolland.example": "view"})

	// A target without share lists has them in the survey and the certificate.
	h.must("job", "create", "home", "--type", "migrate", "--share-lists", "carry", "--people", table, "--go-on", "final-pass", "--from",
		"/field-drive/Weirs", "--to", "/desk/Weirs")
	survey = h.job("home", 0)
	if page := h.must("run", "report", survey.ID); !strings.Contains(page, "The target has no share lists") {
		t.Errorf("the survey for a folder:\n%s", page)
	}
	h.waitsFor("home", "")
	if s := h.shownJob("home").Migration.Certificate.Sharing; s == nil || s.Carried != 0 || s.Missing == 0 ||
		s.Why[len(s.Why)-1].Remedy == "" {
		t.Errorf("the certificate for a folder: %+v", s)
	}
}

// TestShareListsOfAnOrganisation migrates the areas of all members: each owns their folder
// at the target, and what they share is shared there.
func TestShareListsOfAnOrganisation(t *testing.T) {
	t.Parallel()
	h := start(t)
	c := clouds(t)
	h.linkDrives(c)
	const surveyor, ranger, new1, new2 = "surveyor-01@fenmere.example", "ranger-01@fenmere.example", "surveyor-01@tolland.example",
		"ranger-01@tolland.example"
	for _, mail := range []string{surveyor, ranger} {
		if err := c.Sedge.PutFor(mail, []string{"Surveys"}, "flow.csv", []byte("flow of "+mail)); err != nil {
			t.Fatal(err)
		}
	}
	if !c.Sedge.ShareFor(surveyor, []string{"Surveys", "flow.csv"}, map[string]string{ranger: "writer"}) {
		t.Fatal("nothing to share")
	}
	key, table := filepath.Join(t.TempDir(), "service-key.json"), filepath.Join(t.TempDir(), "people.csv")
	if err := os.WriteFile(key, c.Sedge.ServiceKey(), 0o600); err != nil {
		t.Fatal(err)
	}
	writeFile(t, "old,new\n"+surveyor+","+new1+"\n"+ranger+","+new2+"\n", table)
	h.must("account", "link", "sedge", "org", "--url", c.SedgeURL, "--sign-in", "assertion", "--secret-file", key)
	h.must("job", "create", "org", "--type", "migrate", "--share-lists", "carry", "--people", table, "--go-on", "final-pass", "--from", "/org",
		"--to", "/office-drive/People")
	h.must("job", "start", "org", "--detach")
	h.waitsFor("org", "")
	for path, want := range map[string]string{"/People/" + surveyor: new1, "/People/" + ranger: new2, "/People/" + surveyor + "/Surveys": ""} {
		if owner, _, ok := c.Alder.ShareList(path); !ok || owner != want {
			t.Errorf("%s belongs to %q, want %q", path, owner, want)
		}
	}
	if _, people, _ := c.Alder.ShareList("/People/" + surveyor + "/Surveys/flow.csv"); people[new2] != "edit" {
		t.Errorf("the file is shared with %v", people)
	}
	if s := h.shownJob("org").Migration.Certificate.Sharing; s.Entries != 41 || s.Carried != 4 || s.Missing != 38 {
		t.Errorf("the certificate: %+v", s)
	}
}
