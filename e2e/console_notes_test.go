package e2e

import (
	"testing"

	"github.com/chromedp/cdproto/input"

	"deftheron/contract"
)

// TestConsoleNotes tags, comments on and locks files in the console, sees what others noted,
// and finds files by their tags.
func TestConsoleNotes(t *testing.T) {
	t.Parallel()
	h := startSearching(t)
	desk := t.TempDir()
	for _, name := range []string{"plan.txt", "levels of the weir at Tolle.csv", "minutes.txt"} {
		writeFile(t, "x", desk, "Office", name)
	}
	h.linkFolder("desk", desk)
	h.addUser("ann", "operator", contract.Grant{Address: "/desk", Role: "operator"})
	ann := h.signIn("ann")
	for path, body := range map[string]string{
		"/locks":    `{"addresses":["/desk/Office/minutes.txt"],"for":"2h","reason":"Being written."}`,
		"/comments": `{"address":"/desk/Office/minutes.txt","text":"Nearly done."}`,
	} {
		if status, text := h.as(ann, "POST", "/api/v1"+path, body); status > 201 {
			t.Fatal(status, text)
		}
	}
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("desk")
	b.open("http://" + h.listen + "/files/desk/Office")
	b.shows("locked by ann")
	b.press(`[role=row][data-name="minutes.txt"] [role=gridcell]:last-child`)
	b.shows("Nearly done.")
	b.shows("Locked by ann until")
	b.shows("Nobody else can change it through the service, and runs skip it.")
	b.accessible("a file that somebody else has locked")
	b.field("Add a tag", "to check")
	b.click("Add")
	b.until(`document.querySelector('[aria-label="Remove the tag to check"]')`)
	b.press(`[role=row][data-name="minutes.txt"] [role=gridcell]:last-child`)
	b.press(`[role=row][data-name="plan.txt"] [role=gridcell]:last-child`)
	b.shows("Not locked.")
	b.field("Add a tag", "to check")
	b.click("Add")
	b.until(`document.querySelector('[aria-label="Remove the tag to check"]')`)
	b.field("Add a comment", "As agreed with the office.")
	b.click("Comment")
	b.shows("with the office.")
	b.click("Edit")
	b.field("Comment", "As agreed.")
	b.click("Save")
	b.shows(", changed")
	b.click("Lock…")
	b.field("Reason, for the others (optional)", "Figures are being corrected.")
	b.click("Lock")
	b.shows("Locked by you until")
	b.shows("locked by you")
	b.look("notes")
	b.accessible("a file with tags, a comment and a lock of one's own")
	if out := h.must("stat", "/desk/Office/plan.txt"); out == "" {
		t.Error("nothing is said of the file")
	}
	h.must("tag", "add", "from the shell", "/desk/Office/plan.txt") // others' changes show up by themselves
	b.until(`document.querySelector('[role=row][data-name="plan.txt"]').innerText.includes('from the shell')`)
	b.click("Unlock")
	b.shows("Not locked.")
	b.click("Remove the tag from the shell")
	b.until(`!document.querySelector('[aria-label="Remove the tag from the shell"]')`)
	b.click("Delete")
	b.until(`!document.body.innerText.includes('As agreed.')`)

	// Several at once, by the menu at the pointer.
	b.focus("[role=grid]")
	const control = 2
	for _, kind := range []input.DispatchKeyEventType{input.DispatchKeyEventTypeKeyDown, input.DispatchKeyEventTypeKeyUp} {
		b.key(kind, "a", control)
	}
	x, y := b.at(`[role=row][data-name="plan.txt"]`)
	b.mouse(input.DispatchMouseEventTypeMousePressed, x, y, input.MouseButtonRight, 0)
	b.mouse(input.DispatchMouseEventTypeMouseReleased, x, y, input.MouseButtonRight, 0)
	b.click("Tags, comments, lock…")
	b.shows("3 entries")
	b.field("Tag", "2026")
	b.look("notes-several")
	b.accessible("tags and locks of several files")
	b.click("Add to all")
	b.until(`document.querySelectorAll('[title="Tag: 2026"]').length === 3`)

	b.open("http://" + h.listen + "/search?tag=to+check")
	b.shows("2 hits")
	b.shows("to check")
	b.look("search-tag")
	b.accessible("a search by tag")
}
