package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"deftheron/servertest"
)

// window is one of headless Chromium.
type window struct {
	t   *testing.T
	ctx context.Context
}

// browsers holds one value for each test that has a browser open: each keeps a core busy.
var browsers = make(chan struct{}, 3)

// browsing are the names of those tests.
var browsing sync.Map

// takeBrowser waits until few enough other tests have a browser open. A test that has one
// already gets more at once.
func takeBrowser(t *testing.T) {
	test, _, _ := strings.Cut(t.Name(), "/")
	if _, has := browsing.LoadOrStore(test, true); has {
		return
	}
	browsers <- struct{}{}
	t.Cleanup(func() {
		browsing.Delete(test)
		<-browsers
	})
}

// longestWait is how long a page may take, also where other tests keep the machine busy.
const longestWait = time.Minute

// chromium is the one browser process of all tests.
var chromium = sync.OnceValues(func() (context.Context, error) {
	dir, err := os.MkdirTemp("", "heron-chromium-")
	if err != nil {
		return nil, err
	}
	program, err := exec.LookPath("chromium-headless-shell") // the same without what draws a desktop's window
	if err != nil {
		program = "chromium"
	}
	allocator, stop := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(program), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800), chromedp.UserDataDir(dir),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true))...)
	ctx, cancel := chromedp.NewContext(allocator)
	shared.add(func() { cancel(); stop(); os.RemoveAll(dir) })
	return ctx, chromedp.Do(ctx, chromedp.Navigate("about:blank"))
})

// openBrowser opens a window that looks things up nowhere but on loopback, with cookies and a storage
// of its own.
func openBrowser(t *testing.T) *window {
	t.Helper()
	takeBrowser(t)
	browser, err := chromium()
	if err != nil {
		t.Fatalf("start Chromium: %v", err)
	}
	ctx, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	t.Cleanup(cancel)
	b := &window{t: t, ctx: ctx}
	b.do(chromedp.EmulateViewport(1280, 800))
	// Each window has the focus, as that of a person does, though the others are open too.
	b.do(chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, emulation.SetFocusEmulationEnabled, emulation.SetFocusEmulationEnabledParams{Enabled: true})
		return err
	}))
	return b
}

func (b *window) do(actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	// Without a time limit of its own: the first action starts the browser, which
	// lives as long as its context.
	if err := chromedp.Do(b.ctx, actions...); err != nil {
		b.t.Fatalf("in the browser: %v", err)
	}
}

func (b *window) open(url string) {
	b.t.Helper()
	b.do(chromedp.Navigate(url))
}

// js evaluates an expression.
func js[T any](b *window, expression string) T {
	b.t.Helper()
	value, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](expression))
	if err != nil {
		b.t.Fatalf("%s: %v", expression, err)
	}
	return value
}

// until waits until an expression is true, and fails with what the page shows.
func (b *window) until(expression string) {
	b.t.Helper()
	for deadline := time.Now().Add(longestWait); ; {
		value, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool]("Boolean("+expression+")"))
		if err == nil && value {
			return
		}
		if time.Now().After(deadline) {
			b.t.Fatalf("never true: %s\nthe page shows: %s", expression, js[string](b, "document.body.innerText"))
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-b.ctx.Done():
			b.t.Fatal(b.ctx.Err())
		}
	}
}

// shows waits until the page shows a text.
func (b *window) shows(text string) {
	b.t.Helper()
	b.until(fmt.Sprintf("document.body.innerText.includes(%s)", quote(text)))
}

func quote(text string) string {
	encoded, _ := json.Marshal(text)
	return string(encoded)
}

// find is an expression for the one element that can be acted on and that bears
// a name: its text, or its label.
func find(name string) string {
	return fmt.Sprintf(`[...document.querySelectorAll('a,button,input,label,[role=menuitem],[role=option],[role=checkbox],[role=radio],[role=menuitemradio]')]
		.find((e) => e.getClientRects().length && ((e.getAttribute('aria-label') ?? '') === %[1]s || e.textContent.trim() === %[1]s || (e.placeholder ?? '') === %[1]s))`, quote(name))
}

// click presses the mouse on the element that bears a name.
func (b *window) click(name string) {
	b.t.Helper()
	b.until(find(name) + " && !" + find(name) + ".disabled")
	// Where it rests: what has just opened may still be moving into its place.
	var at, before []float64
	for range 50 {
		at = js[[]float64](b, fmt.Sprintf("(() => { const e = %s; e.scrollIntoView({ block: 'nearest' }); "+
			"const r = e.getBoundingClientRect(); return [r.left + r.width / 2, r.top + r.height / 2] })()", find(name)))
		js[any](b, "window.framed = false; requestAnimationFrame(() => requestAnimationFrame(() => { window.framed = true })); null")
		if slices.Equal(at, before) && js[bool](b,
			fmt.Sprintf("(() => { const e = %s; const hit = document.elementFromPoint(%f, %f); return e.contains(hit) || hit?.contains(e) })()",
				find(name), at[0], at[1])) {
			break
		}
		before = at
		b.until("window.framed")
	}
	b.do(chromedp.MouseClickXY(at[0], at[1]))
}

// keys types on the keyboard.
func (b *window) keys(keys string) {
	b.t.Helper()
	b.do(chromedp.KeyEvent(keys))
}

// accessible runs axe on the page as it is.
func (b *window) accessible(what string) {
	b.t.Helper()
	source, err := os.ReadFile(filepath.Join(servertest.Root(), "console", "node_modules", "axe-core", "axe.min.js"))
	if err != nil {
		b.t.Fatal(err)
	}
	js[any](b, string(source)+";null")
	js[any](b, `window.axeDone = null; axe.run(document, {resultTypes: ['violations']}).then((r) => { window.axeDone = r.violations.map((v) =>
		v.id + ': ' + v.help + ' ' + v.nodes.map((n) => n.target.join(' ') + ' ' + (n.any[0]?.message ?? '')).slice(0, 3).join(' | ')) }); null`)
	b.until("window.axeDone")
	for _, violation := range js[[]string](b, "window.axeDone") {
		b.t.Errorf("%s: %s", what, violation)
	}
}

// picture writes what is seen to a file.
func (b *window) picture(path string) {
	b.t.Helper()
	data, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	if err == nil {
		err = os.WriteFile(path, data, 0o644)
	}
	if err != nil {
		b.t.Fatal(err)
	}
}
