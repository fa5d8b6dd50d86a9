package e2e

import (
	"testing"
	"time"
)

// TestConsoleShareLists says in the console who is who in a migration, from what the survey
// found, and sees what was carried over.
func TestConsoleShareLists(t *testing.T) {
	t.Parallel()
	h := start(t)
	c := clouds(t)
	h.linkDrives(c)
	for _, name := range []string{"plan.txt", "levels.csv"} {
		if err := c.Sedge.Put([]string{"Weirs"}, name, []byte(name), time.Unix(1700000000, 0)); err != nil {
			t.Fatal(err)
		}
	}
	c.Sedge.ShareWith([]string{"Weirs", "plan.txt"}, "", map[string]string{"surveyor-01@fenmere.example": "writer",
		"office-01@fenmere.example": "reader", "hydrologist-09@fenmere.example": "reader"}, 1)
	h.must("job", "create", "move", "--type", "migrate", "--from", "/field-drive/Weirs", "--to", "/office-drive/Weirs")
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("office-drive")
	b.open("http://" + h.listen + "/jobs/move")
	b.click("In the final pass, carry share lists and owners over")
	b.shows("The survey of the migration lists the people")
	b.click("Save changes")
	b.shows("No survey has read the share lists yet")
	h.job("move", 0)
	b.open("http://" + h.listen + "/jobs/move")
	b.shows("3 people of the share lists are not in the table")
	js[any](b, `document.querySelector('[aria-label=People]').scrollIntoView({ block: 'center' }), null`)
	b.look("people-open")
	b.accessible("the people of a migration")
	b.click("Accept 1 proposal")
	b.shows("2 people of the share lists are not in the table")
	b.field("Address of surveyor-01@fenmere.example at the target", "surveyor-77@tolland.example")
	b.field("Address of hydrologist-09@fenmere.example at the target", "x")
	b.field("Address of hydrologist-09@fenmere.example at the target", "")
	b.shows("Everybody in the share lists is in the table.")
	b.click("Save changes")
	b.shows("The target does not know this address.")
	js[any](b, `document.querySelector('[aria-label=People]').scrollIntoView({ block: 'center' }), null`)
	b.look("people-unknown")
	b.field("Address of surveyor-01@fenmere.example at the target", "surveyor-01@tolland.example")
	b.click("Save changes")
	for range 3 {
		h.job("move", 0)
	}
	b.open("http://" + h.listen + "/jobs/move")
	b.shows("2 rights of share lists carried over")
	b.shows("2 missing")
	b.look("people-carried")
	b.accessible("a migration that carried share lists over")
	if _, people, _ := c.Alder.ShareList("/Weirs/plan.txt"); len(people) != 2 {
		t.Errorf("it is shared with %v", people)
	}
}
