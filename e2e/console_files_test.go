package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/servertest"
)

// watchPolicy keeps what the page's policy had to stop; none of it may happen.
func (b *window) watchPolicy() {
	b.t.Helper()
	b.do(func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, target, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{
			Source: `window.stopped = JSON.parse(sessionStorage.getItem('stopped') ?? '[]'); document.addEventListener('securitypolicyviolation', (e) => {
				window.stopped.push(e.violatedDirective + ' ' + e.blockedURI + ' ' + e.sourceFile + ':' + e.lineNumber); sessionStorage.setItem('stopped', JSON.stringify(window.stopped)) })`,
		})
		return chromedp.Void{}, err
	})
}

func (b *window) keptToPolicy() {
	b.t.Helper()
	for _, stopped := range js[[]string](b, "window.stopped") {
		b.t.Errorf("the page's policy stopped %s", stopped)
	}
}

// downloadsTo has downloads kept in a folder.
func (b *window) downloadsTo(folder string) {
	b.t.Helper()
	b.do(func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, target, browser.SetDownloadBehavior,
			browser.SetDownloadBehaviorParams{Behavior: browser.SetDownloadBehaviorBehaviorAllow, DownloadPath: folder,
				BrowserContextID: chromedp.FromContext(ctx).BrowserContextID})
		return chromedp.Void{}, err
	})
}

// upload gives files to the page's own input for them.
func (b *window) upload(files ...string) {
	b.t.Helper()
	b.do(chromedp.SetUploadFiles(`input[aria-label="Files to upload"]`, files))
}

// field types into the field that bears a label, in place of what it holds.
func (b *window) field(label, text string) {
	b.t.Helper()
	field := fmt.Sprintf(`[...document.querySelectorAll('label')].find((e) => e.querySelector('span')?.textContent === %s)?.querySelector('input, textarea')`, quote(label))
	b.until(field)
	js[any](b, field+".focus(), "+field+".select(), null")
	b.keys(kb.Delete)
	b.keys(text)
}

func pictureOf(t *testing.T, path string) {
	t.Helper()
	picture := image.NewRGBA(image.Rect(0, 0, 40, 30))
	for x := range 40 {
		picture.Set(x, 10, color.RGBA{200, 60, 40, 255})
	}
	var data bytes.Buffer
	if err := png.Encode(&data, picture); err != nil {
		t.Fatal(err)
	}
	writeFile(t, data.String(), path)
}

// TestConsoleFiles links an account by its form and works with files there, with
// real clicks, keys and uploads.
func TestConsoleFiles(t *testing.T) {
	t.Parallel()
	h := start(t)
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	address, path := apache.Folder(t)
	desk, local, kept := t.TempDir(), t.TempDir(), t.TempDir()
	writeFile(t, "there before", desk, "Notes", "before.txt")
	h.linkFolder("desk", desk)
	demoData(t, local)
	report, err := filepath.Glob(filepath.Join(local, "desk", "Office", "Permits", "*.pdf"))
	if err != nil || len(report) == 0 {
		t.Fatal(report, err)
	}
	data, _ := os.ReadFile(report[0])
	writeFile(t, string(data), local, "permit.pdf")
	pictureOf(t, filepath.Join(local, "bank.png"))
	writeFile(t, "The water stood\nbelow the mark. <b>é</b>\n"+strings.Repeat("x", 400<<10), local, "notes.txt")
	sound, _ := os.ReadFile(filepath.Join(local, "desk", "Field surveys", "Hydrophone", "clip 1.wav"))
	writeFile(t, string(sound), local, "weir.wav")
	b := openBrowser(t)
	b.watchPolicy()
	b.downloadsTo(kept)
	b.open(h.signin)
	b.shows("desk")

	t.Log("an account, by its form")
	b.click("Accounts")
	b.shows("/desk")
	b.accessible("accounts")
	b.click("Check desk")
	b.shows("Top folders")
	b.click("Link an account")
	b.click("WebDAV server")
	b.field("Name in the tree", "share")
	b.field("URL", "not an address")
	b.click("Continue")
	b.shows("is not a URL of a WebDAV collection")
	b.field("URL", address)
	b.field("User (optional)", apache.User)
	b.field("Password (optional)", "wrong")
	b.click("Continue")
	b.shows("does not accept the user")
	b.accessible("the form with an error")
	b.field("Password (optional)", apache.Password)
	b.click("Continue")
	b.shows("It becomes /share in the tree")
	b.accessible("what was found before it is linked")
	b.click("Link it")
	b.shows("Linked as")
	b.shows("user field")
	b.accessible("what was found")
	b.click("Open it in the tree")
	b.shows("This folder is empty.")

	t.Log("a new folder, and files sent into it")
	b.click("New folder")
	b.field("Name", "Surveys 100%")
	b.accessible("the dialog for a folder")
	b.click("Create folder")
	b.shows("Surveys 100%")
	b.click("Surveys 100%")
	b.shows("This folder is empty.")
	names := []string{"bank.png", "notes.txt", "permit.pdf", "weir.wav"}
	var files []string
	for _, name := range names {
		files = append(files, filepath.Join(local, name))
	}
	b.upload(files...)
	b.shows("4 files sent")
	b.shows("weir.wav")
	for _, name := range names {
		mine, _ := os.ReadFile(filepath.Join(local, name))
		theirs, err := os.ReadFile(filepath.Join(path, "Surveys 100%", name))
		if err != nil || !bytes.Equal(mine, theirs) {
			t.Errorf("%s arrived with %d bytes of %d, %v", name, len(theirs), len(mine), err)
		}
	}
	b.accessible("the tree with transfers")
	writeFile(t, "The water stood higher", local, "notes.txt")
	b.upload(filepath.Join(local, "notes.txt"))
	b.shows("already exists")
	b.click("Replace")
	b.shows("5 files sent")
	b.until(`document.querySelector('[data-name="notes.txt"]').textContent.includes('22 B')`)
	b.click("Clear the list")

	t.Log("filter and order")
	b.click("Order by size")
	b.until(`document.querySelector('[role=row]').dataset.name === 'weir.wav'`)
	b.click("Order by name")
	b.until(`document.querySelector('[role=row]').dataset.name === 'bank.png'`)
	b.click("Filter by name")
	b.keys("NOT")
	b.until(`document.querySelectorAll('[role=row]').length === 1`)
	b.shows("of 4 entries")
	b.keys(kb.Backspace + kb.Backspace + kb.Backspace)
	b.until(`document.querySelectorAll('[role=row]').length === 4`)

	t.Log("a look at each, by keyboard")
	b.do(chromedp.Focus("[role=grid]"))
	b.keys(kb.Home)
	b.keys(kb.Enter)
	b.until(`document.querySelector('[role=dialog] img')?.naturalWidth === 40`)
	b.accessible("a look at a picture")
	b.keys(kb.ArrowRight)
	b.until(`document.querySelector('[role=dialog] pre')?.textContent === 'The water stood higher'`)
	b.keys(kb.ArrowRight)
	b.until(`document.querySelector('canvas[data-drawn="1"]')`)
	b.shows("Page 1 of 1")
	b.accessible("a look at a PDF")
	b.keys(kb.ArrowRight)
	b.until(`document.querySelector('[role=dialog] audio')?.duration > 5`)
	b.accessible("a look at a sound")
	b.keys(kb.Escape)
	b.until(`!document.querySelector('[role=dialog]')`)
	recordFilm(b, "/share/Surveys 100%/weir.webm")
	b.click("Refresh")
	b.click("Choose weir.webm")
	b.click("Look at it")
	b.until(`document.querySelector('[role=dialog] video')?.videoWidth === 64`)
	b.accessible("a look at a film")
	b.click("Close")
	b.click("Clear")
	h.must("rm", "--yes", "/share/Surveys 100%/weir.webm")
	b.click("Refresh")
	b.until(`!document.querySelector('[data-name="weir.webm"]')`)

	t.Log("renamed, fetched, chosen over folders, moved")
	b.click("Choose notes.txt")
	b.click("More")
	b.click("Rename")
	const inPlace = `input[aria-label="New name"]`
	b.until(fmt.Sprintf("document.activeElement?.matches(%s)", quote(inPlace)))
	b.keys("bank" + kb.Enter) // before the extension, which stays
	b.shows("Renamed notes.txt to bank.txt")
	b.click("Undo")
	b.until(`document.querySelector('[data-name="notes.txt"]') && !document.querySelector('[data-name="bank.txt"]')`)
	b.click("Choose notes.txt")
	b.focus(`[role=grid]`)
	b.keys(kb.F2)
	b.until(fmt.Sprintf("document.activeElement?.matches(%s)", quote(inPlace)))
	js[any](b, fmt.Sprintf("document.querySelector(%s).select(), null", quote(inPlace)))
	b.keys("weir.wav" + kb.Enter) // another file has that name
	b.shows("weir.wav already exists")
	b.keys(kb.Escape)
	b.until(fmt.Sprintf("!document.querySelector(%s)", quote(inPlace)))
	b.keys(kb.F2)
	b.until(fmt.Sprintf("document.activeElement?.matches(%s)", quote(inPlace)))
	b.keys("field notes" + kb.Enter)
	b.shows("Renamed notes.txt to field notes.txt")
	b.click("Choose bank.png")
	b.click("Download")
	arrives(t, filepath.Join(kept, "bank.png"), filepath.Join(local, "bank.png"))
	b.keys("/")
	b.keys(kb.Backspace)
	b.keys("/desk/Notes" + kb.Enter)
	b.click("Choose before.txt")
	b.shows("1 of them in other folders")
	b.click("Move to…")
	b.field("Into the folder", "/share")
	b.accessible("the dialog for a move")
	b.click("Move 2 entries")
	b.shows("verified and deleted at the source")
	if _, err := os.Stat(filepath.Join(desk, "Notes", "before.txt")); !os.IsNotExist(err) {
		t.Errorf("what was moved is still there: %v", err)
	}
	for _, name := range []string{"before.txt", "bank.png"} {
		if _, err := os.Stat(filepath.Join(path, name)); err != nil {
			t.Errorf("%s is not where it was moved to: %v", name, err)
		}
	}

	t.Log("compared, and removed")
	h.must("copy", "/share/Surveys 100%", "/desk")
	writeFile(t, "only on the desk", desk, "Surveys 100%", "desk only.txt")
	b.open("http://" + h.listen + "/files/share")
	b.click("Choose Surveys 100%")
	b.click("More")
	b.click("Compare with…")
	b.field("There", "/desk/Surveys 100%")
	b.click("Compare")
	b.shows("The two sides differ.")
	b.shows("desk only.txt")
	b.shows("3 files")
	b.accessible("a comparison")
	b.open("http://" + h.listen + "/files/share")
	b.click("Choose Surveys 100%")
	b.click("Choose bank.png")
	b.do(chromedp.Focus("[role=grid]"))
	b.keys(kb.Delete)
	b.shows("4 files and 1 folder")
	b.shows("It cannot be restored.")
	b.accessible("the question before a removal")
	b.click("Delete 5 entries")
	b.until(`!document.querySelector('[data-name="bank.png"]')`)
	same(t, "the share", digest(t, path), map[string]string{"before.txt": digest(t, path)["before.txt"]})

	b.click("Accounts")
	b.click("More for share")
	b.click("Unlink…")
	b.shows("Nothing at the provider is deleted.")
	b.keys(kb.Tab) // from "Keep it", which has the focus
	b.keys(kb.Enter)
	b.until(`!document.querySelector('[aria-label="Details of share"]')`)
	b.shows("Link it again")
	b.keptToPolicy()
}

// recordFilm has the browser itself record a film, and sends it to an address.
func recordFilm(b *window, address string) {
	b.t.Helper()
	js[any](b, fmt.Sprintf(`(async () => {
		const canvas = Object.assign(document.createElement('canvas'), { width: 64, height: 48 })
		const pen = canvas.getContext('2d')
		const recorder = new MediaRecorder(canvas.captureStream(20), { mimeType: 'video/webm' })
		const parts = []
		recorder.ondataavailable = (e) => parts.push(e.data)
		const ended = new Promise((resolve) => { recorder.onstop = resolve })
		recorder.start()
		for (let i = 0; i < 20; i++) { pen.fillRect(i, i, 8, 8); await new Promise((resolve) => setTimeout(resolve, 30)) }
		recorder.stop()
		await ended
		const answer = await fetch('/api/v1/content?' + new URLSearchParams({ address: %s }), { method: 'PUT', body: new Blob(parts) })
		window.filmed = answer.status
	})(), null`, quote(address)))
	b.until("window.filmed === 201")
}

// arrives waits for a download.
func arrives(t *testing.T, path, like string) {
	t.Helper()
	want, err := os.ReadFile(like)
	if err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(longestWait); ; {
		got, err := os.ReadFile(path)
		if err == nil && bytes.Equal(got, want) {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("%s never arrived: %d bytes, %v", path, len(got), err)
		}
		<-time.After(20 * time.Millisecond)
	}
}

// TestConsoleRunControls pauses, resumes and takes up a run again.
func TestConsoleRunControls(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	for i := range 30 {
		writeFile(t, strings.Repeat("x", 1000), desk, fmt.Sprintf("file %02d", i))
	}
	h.linkFolder("desk", desk)
	slow := h.linkSlow("archive", 0)
	b := openBrowser(t)
	b.watchPolicy()
	b.open(h.signin)
	b.shows("desk")
	slow.hold()
	h.must("copy", "/desk", "/archive", "--detach")
	b.click("Runs")
	b.shows("Clear filters")
	b.click("/desk → /archive/desk")
	b.shows("In flight")
	b.click("Pause")
	b.shows("Paused until you resume it")
	b.accessible("a paused run")
	b.click("Resume")
	b.shows("In flight")
	b.click("Cancel run")
	b.click("Cancel the run")
	b.until(`/Cancelling…|Cancelled. Transferred/.test(document.body.innerText)`) // the service has taken it
	slow.release()
	b.shows("Cancelled. Transferred files stay.")
	b.click("Continue")
	b.shows("All items were transferred and verified.")
	for run, err := range h.client().Runs(t.Context(), client.RunFilter{}) {
		if err != nil || run.Items != (contract.ItemCounts{Done: 30}) {
			t.Errorf("%+v, %v", run.Items, err)
		}
	}
	b.keptToPolicy()
}

// TestConsoleTransfers shows how far an upload and a download have come, stops
// one, and fetches several as one archive.
func TestConsoleTransfers(t *testing.T) {
	t.Parallel()
	h := start(t)
	slow := h.linkSlow("archive", 16<<20)
	local, kept := t.TempDir(), t.TempDir()
	content := strings.Repeat("0123456789abcdef", 24<<16)
	writeFile(t, content, local, "large.bin")
	writeFile(t, content, local, "stopped.bin")
	b := openBrowser(t)
	b.downloadsTo(kept)
	b.open(h.signin)
	b.click("Files")
	b.click("archive")
	b.shows("This folder is empty.")
	b.upload(filepath.Join(local, "stopped.bin"))
	b.shows("1 file to send")
	b.click("Stop")
	b.shows("It was stopped; nothing of it is there.")
	b.click("Clear the list")
	b.upload(filepath.Join(local, "large.bin"))
	b.until(`/[1-9][0-9]? % of 24.0 MiB/.test(document.body.innerText)`)
	b.until(`!document.body.innerText.includes('idle')`)
	b.shows("1 file sent")
	b.click("Choose large.bin")
	b.click("Download")
	b.shows("1 download under way")
	b.until(`/[1-9][0-9]? % of 24.0 MiB/.test(document.body.innerText)`)
	b.accessible("transfers")
	slow.release()
	arrives(t, filepath.Join(kept, "large.bin"), filepath.Join(local, "large.bin"))
	if listed := h.must("ls", "--fresh", "/archive"); strings.Contains(listed, "stopped.bin") {
		t.Errorf("what was stopped is there: %s", listed)
	}
	h.must("mkdir", "/archive/folder")
	h.must("put", filepath.Join(local, "large.bin"), "/archive/folder")
	b.click("Refresh")
	b.click("Choose folder")
	b.click("Download")
	archived := filepath.Join(kept, "large.bin and 1 more.zip")
	for deadline := time.Now().Add(longestWait); ; {
		reader, err := zip.OpenReader(archived)
		if err == nil {
			var names []string
			for _, file := range reader.File {
				names = append(names, fmt.Sprint(file.Name, " ", file.UncompressedSize64))
			}
			reader.Close()
			if got := strings.Join(names, ", "); got != "large.bin 25165824, folder/ 0, folder/large.bin 25165824" {
				t.Errorf("the archive holds %s", got)
			}
			return
		}
		if time.Now().After(deadline) {
			t.Fatal(err)
		}
		<-time.After(20 * time.Millisecond)
	}
}
