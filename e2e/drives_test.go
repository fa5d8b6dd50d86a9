package e2e

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"

	"deftheron/contract"
	"deftheron/demo"
	"deftheron/servertest"
	"deftheron/standin"
)

const (
	sedgeUser = "surveys@fenmere.example"
	alderUser = "office@tolland.example"
)

// clouds starts both stand-ins on free ports. "own" is a fast registration of
// one's own at Sedge.
func clouds(t *testing.T) *standin.Clouds {
	t.Helper()
	c, err := standin.StartClouds(t.TempDir(), "127.0.0.1:0", "127.0.0.1:0", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := c.Close(); err != nil {
			t.Error(err)
		}
	})
	c.Sedge.Consents.Register(standin.Client{ID: "own", Secret: "own-secret", Redirects: []string{standin.Callback}})
	return c
}

// linkDrives links both, as field-drive and office-drive, as a person would.
func (h *heron) linkDrives(c *standin.Clouds) {
	h.t.Helper()
	for _, one := range []struct {
		link contract.Link
		user string
	}{
		{contract.Link{Provider: "sedge", Name: "field-drive", Options: map[string]string{"url": c.SedgeURL, "client-id": "own"},
			Secret: "own-secret"}, sedgeUser},
		{contract.Link{Provider: "alder", Name: "office-drive", Options: map[string]string{"url": c.AlderURL}}, alderUser},
	} {
		h.agree(contract.Consenting{Link: one.link}, one.user)
	}
}

func (h *heron) agree(asked contract.Consenting, user string) contract.Consent {
	h.t.Helper()
	asked.Way = "page"
	consent, err := h.client().BeginConsent(h.t.Context(), asked)
	if err == nil {
		err = demo.Agree(h.t.Context(), consent.URL, user)
	}
	if err == nil {
		consent, err = h.client().Consent(h.t.Context(), consent.ID)
	}
	if err != nil || consent.State != "linked" {
		h.t.Fatalf("%s: %v, %+v", asked.Name, err, consent)
	}
	return consent
}

// typed is a command in a terminal of its own.
type typed struct {
	t    *testing.T
	file *os.File
	out  *logged
	done chan error
}

func (h *heron) terminal(args ...string) *typed {
	h.t.Helper()
	command := exec.Command(program, args...)
	command.Env = append(os.Environ(), "HERON_URL=http://"+h.listen, "HERON_TOKEN="+h.token(), "XDG_CONFIG_HOME="+h.data+"/config",
		"NO_COLOR=1", "DISPLAY=", "BROWSER=")
	file, err := pty.StartWithSize(command, &pty.Winsize{Rows: 40, Cols: 140})
	if err != nil {
		h.t.Fatal(err)
	}
	p := &typed{t: h.t, file: file, out: &logged{}, done: make(chan error, 1)}
	copied := make(chan struct{})
	go func() { _, _ = io.Copy(p.out, file); close(copied) }()
	go func() { err := command.Wait(); <-copied; p.done <- err }()
	h.t.Cleanup(func() {
		if command.ProcessState == nil {
			_ = command.Process.Kill()
		}
		file.Close()
	})
	return p
}

// shows waits until the terminal shows what a pattern matches, and returns it.
func (p *typed) shows(pattern string) string {
	p.t.Helper()
	re := regexp.MustCompile(pattern)
	for deadline := time.Now().Add(longestWait); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if found := re.FindStringSubmatch(p.out.String()); found != nil {
			return found[len(found)-1]
		}
	}
	p.t.Fatalf("never shown: %s\n%s", pattern, p.out)
	return ""
}

func (p *typed) ends() string {
	p.t.Helper()
	select {
	case err := <-p.done:
		if err != nil {
			p.t.Fatalf("%v\n%s", err, p.out)
		}
	case <-time.After(longestWait):
		p.t.Fatalf("it does not end\n%s", p.out)
	}
	return p.out.String()
}

// answerDevice types a code at Sedge's page.
func answerDevice(t *testing.T, page, code, answer string) {
	t.Helper()
	response, err := http.PostForm(page, url.Values{"user_code": {code}, "user": {sedgeUser}, "answer": {answer}})
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if text, _ := io.ReadAll(response.Body); response.StatusCode != 200 || strings.Contains(string(text), "There is no such code") {
		t.Fatalf("%s: %s", response.Status, text)
	}
}

// TestConsentInTerminal links by a code typed elsewhere, and by an address that
// is pasted back, in a real terminal.
func TestConsentInTerminal(t *testing.T) {
	t.Parallel()
	h, c := start(t), clouds(t)
	p := h.terminal("account", "link", "sedge", "field-drive", "--url", c.SedgeURL, "--start", "Surveys")
	page, code := p.shows(`open\s+(\S+/device)`), p.shows(`([A-Z2-7]{4}-[A-Z2-7]{4})`)
	answerDevice(t, page, code, "agree")
	if text := p.shows(`(heron: [^.]*\.[^.]*\.)`); !strings.Contains(text, "starting folder /Surveys is not there") {
		t.Errorf("a starting folder that is not there: %s", text)
	}
	c.Sedge.Document([]string{"Surveys"}, "text", "Plan", "All")
	p = h.terminal("account", "link", "sedge", "field-drive", "--url", c.SedgeURL, "--start", "Surveys")
	answerDevice(t, p.shows(`open\s+(\S+/device)`), p.shows(`([A-Z2-7]{4}-[A-Z2-7]{4})`), "agree")
	if out := p.ends(); !strings.Contains(out, "Linked Sedge") || !strings.Contains(out, sedgeUser) || !strings.Contains(out, "Rivers team") {
		t.Error(out)
	}
	p = h.terminal("account", "link", "sedge", "team-drive", "--url", c.SedgeURL, "--area", "Rivers team")
	answerDevice(t, p.shows(`open\s+(\S+/device)`), p.shows(`([A-Z2-7]{4}-[A-Z2-7]{4})`), "refuse")
	p.shows(`Consent was refused at Sedge`)

	p = h.terminal("account", "link", "alder", "office-drive", "--url", c.AlderURL, "--read-only")
	page = p.shows(`open\s+(http://\S+/agree\?\S+)`)
	if strings.Contains(page, "edit") {
		t.Errorf("an account to be read alone asks for more: %s", page)
	}
	back := leadsBack(t, page, alderUser)
	if !strings.Contains(back, "/code?code=") {
		t.Fatal(back)
	}
	if _, err := p.file.WriteString(back + "\n"); err != nil {
		t.Fatal(err)
	}
	if out := p.ends(); !strings.Contains(out, "Linked Alder") || !strings.Contains(out, alderUser) {
		t.Error(out)
	}
	if r := h.run("x", "put", "-", "/office-drive/x.txt"); r.code == 0 || !strings.Contains(r.err, "read only") {
		t.Errorf("written to an account that is read only: %+v", r)
	}
	// An address of another link is not taken.
	p = h.terminal("account", "link", "alder", "office-two", "--url", c.AlderURL)
	p.shows(`open\s+(http://\S+/agree\?\S+)`)
	if _, err := p.file.WriteString(back + "\n"); err != nil {
		t.Fatal(err)
	}
	p.shows(`belongs to another link`)

	// A definition that signs in by consent is tried.
	file := filepath.Join(t.TempDir(), "mine.yaml")
	writeFile(t, strings.Replace(h.must("provider", "show", "sedge", "--definition"), "name: sedge\n", "name: mine\n", 1), file)
	c.Sedge.Consents.Register(standin.Client{ID: standin.SedgeClient, Redirects: []string{standin.Callback}})
	p = h.terminal("provider", "try", file, "--option", "url="+c.SedgeURL, "--consent", "device")
	answerDevice(t, p.shows(`open\s+(\S+/device)`), p.shows(`([A-Z2-7]{4}-[A-Z2-7]{4})`), "agree")
	if out := p.ends(); !strings.Contains(out, " 0 fail") || !strings.Contains(out, "the sign-in is renewed") {
		t.Error(out)
	}
}

// leadsBack agrees at Alder's page and returns where it leads, without going there.
func leadsBack(t *testing.T, page, user string) string {
	t.Helper()
	address, err := url.Parse(page)
	if err != nil {
		t.Fatal(err)
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	response, err := client.PostForm(address.Scheme+"://"+address.Host+address.Path,
		url.Values{"query": {address.RawQuery}, "user": {user}, "answer": {"agree"}})
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	location, err := response.Location()
	if err != nil {
		t.Fatal(err)
	}
	return location.String()
}

// TestConsentInConsole clicks through the consent pages in a browser.
func TestConsentInConsole(t *testing.T) {
	t.Parallel()
	h, c := start(t), clouds(t)
	c.Alder.Consents.Register(standin.Client{ID: standin.AlderClient, Secret: "alder-app", Redirects: []string{standin.Callback}})
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Accounts")
	link := func(provider, name, address string) {
		b.open("http://" + h.listen + "/accounts/link")
		b.click(provider)
		b.field("Name in the tree", name)
		b.field("Address (optional)", address)
	}
	link("Alder (stand-in)", "office-drive", c.AlderURL)
	b.accessible("linking by consent")
	b.click("Go to Alder (stand-in)")
	b.shows("An app asks for your Alder files")
	b.click("Refuse")
	b.shows("Not linked")
	b.shows("Consent was refused at Alder")
	link("Alder (stand-in)", "office-drive", c.AlderURL)
	b.click("Go to Alder (stand-in)")
	b.shows("An app asks for your Alder files")
	b.click("Agree")
	b.shows("Linked as")
	b.shows(alderUser)
	b.accessible("linked by consent")
	// The answer is good once, and no other state is taken.
	for _, answer := range []string{"state=nobody&code=x", ""} {
		response, err := http.Get("http://" + h.listen + "/consent/callback?" + answer)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		if response.StatusCode != http.StatusBadRequest {
			t.Errorf("%q: %s", answer, response.Status)
		}
	}
	// Sedge by a device code.
	link("Sedge (stand-in)", "field-drive", c.SedgeURL)
	js[any](b, `(() => { const e = [...document.querySelectorAll('label')].find((l) => l.textContent.startsWith('Give consent')).querySelector('select');
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(e, 'device'); e.dispatchEvent(new Event('change', { bubbles: true })); return null })()`)
	b.click("Go to Sedge (stand-in)")
	b.until(`document.querySelector('[aria-label=Code]')`)
	answerDevice(t, c.SedgeURL+"/device", js[string](b, `document.querySelector('[aria-label=Code]').textContent`), "agree")
	b.shows("Linked as")
	b.shows("Rivers team")

	// Consent is withdrawn, and given again in place.
	c.Sedge.Consents.Withdraw()
	h.run("", "account", "check", "field-drive")
	b.open("http://" + h.listen + "/accounts")
	b.click("Reauthorize field-drive")
	b.shows("Its jobs stay")
	b.accessible("mending")
	b.click("Go to Sedge (stand-in)")
	b.shows("An app asks for your Sedge files")
	b.click("Agree") // as another user than it was linked by
	b.shows("was linked as " + sedgeUser)
	b.open("http://" + h.listen + "/accounts/reauthorize/field-drive")
	b.click("Go to Sedge (stand-in)")
	b.shows("An app asks for your Sedge files")
	js[any](b, `document.querySelector('select').value = `+quote(sedgeUser)+`; null`)
	b.click("Agree")
	b.shows("Linked as")
	if out := h.must("account", "check", "field-drive"); !strings.Contains(out, "reached") {
		t.Error(out)
	}
}

// TestDefinitionsInConsole adds a definition, and tries it, in a browser.
func TestDefinitionsInConsole(t *testing.T) {
	t.Parallel()
	h, c := start(t), clouds(t)
	b := openBrowser(t)
	b.open(h.signin)
	b.shows("Accounts")
	b.open("http://" + h.listen + "/accounts/providers")
	b.shows("definition, shipped")
	b.accessible("providers")
	b.click("Add a definition")
	give := func(text string) {
		js[any](b, `(() => { const e = document.querySelector('textarea'); Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set.call(e, `+quote(text)+`);
			e.dispatchEvent(new Event('input', { bubbles: true })); return null })()`)
	}
	mine := bearerDefinition(t, h)
	give(strings.Replace(mine, "start: .area.root", "start: .area | nosuch", 1))
	b.click("Check it")
	b.shows("the function nosuch cannot be used")
	give(mine)
	b.click("Check it")
	b.shows("is understood")
	b.accessible("a definition")
	access, _, _ := c.Sedge.Consents.Grant("own", sedgeUser, "items.read", "items.write")
	for label, value := range map[string]string{"Address": c.SedgeURL, "Token": access} {
		js[any](b, `(() => { const e = [...document.querySelectorAll('form label')].find((l) => l.textContent.startsWith(`+quote(label)+
			`)).querySelector('input');
			Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(e, `+quote(value)+`); e.dispatchEvent(new Event('input', { bubbles: true })); return null })()`)
	}
	b.click("Try it")
	b.shows("0 fail")
	b.click("Add it")
	b.shows("definition, added")
	if out := h.must("provider", "list"); !strings.Contains(out, "sedge-by-token") {
		t.Error(out)
	}
	b.click("Remove the definition sedge-by-token")
	b.click("Remove sedge-by-token")
	b.until(`!document.body.innerText.includes('definition, added')`)
}

// bearerDefinition is Sedge's definition with another sign-in and name.
func bearerDefinition(t *testing.T, h *heron) string {
	t.Helper()
	text := h.must("provider", "show", "sedge", "--definition")
	before, after, ok := strings.Cut(text, "sign-in:")
	_, after, also := strings.Cut(after, "failures:")
	if !ok || !also {
		t.Fatal(text)
	}
	text = before + "sign-in:\n  - way: bearer\n\nfailures:" + after
	return strings.Replace(strings.Replace(text, "name: sedge\n", "name: sedge-by-token\n", 1), "title: Sedge (stand-in)",
		"title: Sedge by token", 1)
}

// TestHeldUntilMended withdraws consent in the middle of a run, restarts the
// service, and mends the account.
func TestHeldUntilMended(t *testing.T) {
	t.Parallel()
	h, c := start(t), clouds(t)
	h.linkDrives(c)
	source := t.TempDir()
	for i := range 120 {
		writeFile(t, strings.Repeat("level ", 2000+i), source, "gauge", strings.Repeat("x", i%9), "file "+time.Duration(i).String())
	}
	h.linkFolder("desk", source)
	c.Sedge.Control.SetFaults(standin.Faults{Delay: 30})
	var started contract.Started
	if err := json.Unmarshal([]byte(h.must("copy", "/desk/gauge", "/field-drive", "--detach", "--json")), &started); err != nil {
		t.Fatal(err)
	}
	for c.Sedge.Control.Requests()["POST /v2/upload"] < 20 {
		time.Sleep(10 * time.Millisecond)
	}
	c.Sedge.Consents.Withdraw()
	c.Sedge.Control.SetFaults(standin.Faults{})
	h.waitState(started.Run, "held")
	if out := h.must("run", "show", started.Run); !strings.Contains(out, "held") || !strings.Contains(out, "heron account reauthorize") {
		t.Errorf("a run that is held says: %s", out)
	}
	if r := h.run("", "run", "follow", started.Run); r.code != 3 || !strings.Contains(r.out, "continue automatically") {
		t.Errorf("following a run that is held: %+v", r)
	}
	if out := h.must("account", "list"); !strings.Contains(out, "sign-in expired") {
		t.Error(out)
	}
	h.end(syscall.SIGKILL)
	h.serve()
	h.waitState(started.Run, "held")
	h.agree(contract.Consenting{Link: contract.Link{Provider: "sedge", Name: "field-drive"}, Reauthorize: true}, sedgeUser)
	h.waitState(started.Run, "done")
	target := t.TempDir()
	h.must("get", "/field-drive/gauge", target)
	same(t, "after the account was mended", digest(t, filepath.Join(target, "gauge")), digest(t, filepath.Join(source, "gauge")))
}

func (h *heron) waitState(run, state string) {
	h.t.Helper()
	var shown contract.Run
	for deadline := time.Now().Add(60 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if err := json.Unmarshal([]byte(h.must("run", "show", run, "--json")), &shown); err != nil {
			h.t.Fatal(err)
		}
		if string(shown.State) == state {
			return
		}
		if shown.Ended != nil {
			break
		}
	}
	h.t.Fatalf("the run is %s (%s), want %s", shown.State, shown.Why, state)
}

// TestDocumentsAndTwins copies and fetches what exists only inside a service, and
// two files of one name.
func TestDocumentsAndTwins(t *testing.T) {
	t.Parallel()
	h, c := start(t), clouds(t)
	h.linkDrives(c)
	c.Sedge.Document([]string{"Notes"}, "text", "Weir inspection", "All dry.\nNext week again.")
	c.Sedge.Document([]string{"Notes"}, "sheet", "Levels", "gauge\tlevel\n1\t0.31")
	for _, text := range []string{"one", "two"} {
		if err := c.Sedge.Put([]string{"Notes"}, "sketch.txt", []byte(text), time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	listing := h.must("ls", "/field-drive/Notes", "--json")
	if strings.Count(listing, `"kind":"document"`) != 2 || strings.Count(listing, "/field-drive/Notes/%id=") != 2 {
		t.Errorf("listed: %s", listing)
	}
	address := regexp.MustCompile(`/field-drive/Notes/%id=[^"]+`).FindString(listing)
	if got := h.must("cat", address); got != "one" && got != "two" {
		t.Errorf("%s holds %q", address, got)
	}
	if plan := h.must("copy", "/field-drive/Notes", "/office-drive", "--plan"); !strings.Contains(plan, "1 text document exported as odt") ||
		!strings.Contains(plan, "1 sheet document exported as ods") {
		t.Errorf("the plan does not name the default: %s", plan)
	}
	if run := h.copy("/field-drive/Notes", "/office-drive"); run.State != "done" || run.Items.Done != 4 {
		t.Errorf("%+v", run)
	}
	local := t.TempDir()
	h.must("get", "/office-drive/Notes", local)
	names := digest(t, filepath.Join(local, "Notes"))
	if len(names) != 4 || names["Weir inspection.odt"] == "" || names["Levels.ods"] == "" || names["sketch.txt"] == "" {
		t.Errorf("copied: %v", names)
	}
	if data, _ := os.ReadFile(filepath.Join(local, "Notes", "Weir inspection.odt")); !bytes.HasPrefix(data, []byte("PK")) ||
		!bytes.Contains(data, []byte("application/vnd.oasis.opendocument.text")) {
		t.Error("the export is not an OpenDocument file")
	}
	if run := h.copy("/field-drive/Notes", "/office-drive"); run.Items.Done != 0 || run.Items.UpToDate != 4 {
		t.Errorf("the second time: %+v", run)
	}
	if r := h.run("", "compare", "/field-drive/Notes", "/office-drive/Notes", "--read"); r.code != 0 || strings.Contains(r.out, "only here") {
		t.Errorf("compared: %+v", r)
	}
	defer func() { // unlinked, its sign-in is given back
		before := c.Sedge.Consents.Live()
		h.must("account", "unlink", "field-drive", "--yes")
		if after := c.Sedge.Consents.Live(); before != 1 || after != 0 {
			t.Errorf("%d consents before, %d after it was unlinked", before, after)
		}
	}()
	// One document, in formats of choice.
	if run := h.copy("/field-drive/Notes/Weir inspection", "/office-drive/Chosen", "--documents", "text=pdf+txt"); run.State != "done" ||
		run.Items.Done != 2 {
		t.Errorf("%+v", run)
	}
	if out := h.must("cat", "/office-drive/Chosen/Weir inspection.txt"); !strings.Contains(out, "All dry.") {
		t.Error(out)
	}
	h.must("get", "/field-drive/Notes", local+"/", "--as", "html,csv", "--yes")
	if data, err := os.ReadFile(filepath.Join(local, "Notes", "Levels.csv")); err != nil || !strings.Contains(string(data), "0.31") {
		t.Errorf("%s, %v", data, err)
	}
	for _, bad := range []struct{ rule, reason string }{{"text=docx", "cannot be exported as"},
		{"letters=pdf", "is not a rule for documents"}} {
		if r := h.run("", "copy", "/field-drive/Notes", "/office-drive/x", "--documents", bad.rule); r.code != 2 ||
			!strings.Contains(r.err, bad.reason) {
			t.Errorf("%s: %+v", bad.rule, r)
		}
	}
}

// TestProviderCommands lists, shows, tries and adds definitions.
func TestProviderCommands(t *testing.T) {
	t.Parallel()
	h, c := start(t), clouds(t)
	dir := t.TempDir()
	mine := bearerDefinition(t, h)
	file := filepath.Join(dir, "mine.yaml")
	writeFile(t, mine, file)
	access, _, _ := c.Sedge.Consents.Grant("own", sedgeUser, "items.read", "items.write")
	r := h.run(access, "provider", "try", file, "--option", "url="+c.SedgeURL, "--secret-file", "-")
	if r.code != 0 || !strings.Contains(r.out, "0 fail") {
		t.Errorf("%+v", r)
	}
	if left := h.run(access, "provider", "try", file, "--option", "url="+c.SedgeURL, "--secret-file", "-",
		"--json"); strings.Contains(left.out, access) {
		t.Error("the token is told")
	}
	// A scope that does not suffice is named, and the exchange shown without its secret.
	reads, _, _ := c.Sedge.Consents.Grant("own", sedgeUser, "items.read")
	r = h.run(reads, "provider", "try", file, "--option", "url="+c.SedgeURL, "--secret-file", "-")
	if r.code != 1 || !strings.Contains(r.out, "the scope items.write") || !strings.Contains(r.out, "> POST "+c.SedgeURL+"/v2/items") ||
		strings.Contains(r.out+r.err, reads) {
		t.Errorf("%+v", r)
	}
	h.must("provider", "add", file)
	if r := h.run(access, "account", "link", "sedge-by-token", "tokened", "--url", c.SedgeURL, "--secret-file", "-"); r.code != 0 ||
		!strings.Contains(r.out, sedgeUser) {
		t.Errorf("%+v", r)
	}
	if r := h.run("", "provider", "remove", "sedge-by-token", "--yes"); r.code == 0 || !strings.Contains(r.err, "tokened") {
		t.Errorf("%+v", r)
	}
	h.end(syscall.SIGTERM)
	h.serve()
	h.must("ls", "/tokened")
	for _, bad := range []struct {
		what, old, new, reason string
	}{
		{"jq", "start: .area.root", "start: .area |", "jq: unexpected EOF"},
		{"an unknown field", "addressed: id", "adressed: id", "addressed is meant, maybe"},
		{"no YAML", "limits:", "limits: [", "line"},
		{"a missing field", "title: Sedge by token", "", "title: it is missing"},
		{"another choice", "addressed: id", "addressed: name", "it is one of id, path"},
		{"greedy", "start: .area.root", `start: '.area.root | until(false; .)'`, "the function until cannot be used"},
		{"a name of the program", "name: sedge-by-token", "name: webdav", "part of the program"},
	} {
		writeFile(t, strings.Replace(mine, bad.old, bad.new, 1), dir, "bad.yaml")
		r := h.run("", "provider", "add", filepath.Join(dir, "bad.yaml"))
		if r.code == 0 || !strings.Contains(strings.ToLower(r.err), strings.ToLower(bad.reason)) || bad.what != "a name of the program" &&
			!strings.Contains(strings.ToLower(r.err), "bad.yaml") {
			t.Errorf("%s: %+v", bad.what, r)
		}
	}
	for _, args := range [][]string{
		{"provider", "try", filepath.Join(dir, "none.yaml")}, {"provider", "show", "nosuch"}, {"provider", "register", "sedge"},
		{"provider", "register", "folder", "--client-id", "x"}, {"account", "reauthorize", "nosuch"},
		{"account", "link", "sedge", "x", "--consent", "post"},
		{"account", "link", "sedge", "x", "--url", "nowhere"},
		{"account", "link", "alder", "x", "--url", "http://127.0.0.1:1", "--sign-in", "carrier-pigeon"},
	} {
		if r := h.run("", args...); r.code == 0 || len(r.err) < 20 {
			t.Errorf("%v: %+v", args, r)
		}
	}
}

// TestOwnRegistration is faster at Sedge than the default one, for a definition
// and for one account.
func TestOwnRegistration(t *testing.T) {
	t.Parallel()
	h, c := start(t), clouds(t)
	secret := filepath.Join(t.TempDir(), "secret")
	link := func(name string) {
		h.agree(contract.Consenting{Link: contract.Link{Provider: "sedge", Name: name, Options: map[string]string{"url": c.SedgeURL}}}, sedgeUser)
	}
	link("slow")
	writeFile(t, "wrong\n", secret)
	h.must("provider", "register", "sedge", "--client-id", "own", "--secret-file", secret)
	consent, err := h.client().BeginConsent(t.Context(),
		contract.Consenting{Way: "page", Link: contract.Link{Provider: "sedge", Name: "fast", Options: map[string]string{"url": c.SedgeURL}}})
	if err == nil {
		_ = demo.Agree(t.Context(), consent.URL, sedgeUser) // its end tells of the failure
		consent, err = h.client().Consent(t.Context(), consent.ID)
	}
	if err != nil || consent.State != "failed" || !strings.Contains(consent.Why+consent.Remedy, "client id") {
		t.Errorf("a wrong client secret: %+v, %v", consent, err)
	}
	writeFile(t, "own-secret\n", secret)
	h.must("provider", "register", "sedge", "--client-id", "own", "--secret-file", secret)
	link("fast")
	if out := h.must("provider", "show", "sedge"); !strings.Contains(out, "own") {
		t.Error(out)
	}
	source := t.TempDir()
	for i := range 60 {
		writeFile(t, "x", source, "many", "file "+time.Duration(i).String())
	}
	h.linkFolder("desk", source)
	took := map[string]time.Duration{}
	for _, name := range []string{"slow", "fast"} {
		begun := time.Now()
		if run := h.copy("/desk/many", "/"+name+"/"+name); run.State != "done" {
			t.Errorf("%s: %+v", name, run)
		}
		took[name] = time.Since(begun)
	}
	if took["fast"]*2 > took["slow"] {
		t.Errorf("by one's own registration it took %v, by the default one %v", took["fast"], took["slow"])
	}
}

// TestBehindProxies has the service reached by a name of its own through a proxy,
// and reach a stand-in through another.
func TestBehindProxies(t *testing.T) {
	t.Parallel()
	c := clouds(t)
	h := &heron{t: t, data: filepath.Join(t.TempDir(), "data"), listen: servertest.FreeAddress(t)}
	front := httptest.NewServer(httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: h.listen}))
	defer front.Close()
	through := 0
	outbound := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		through++
		if r.URL.Host != "alder.example" {
			http.Error(w, "not allowed", http.StatusForbidden)
			return
		}
		target, _ := url.Parse(c.AlderURL)
		r.Host = target.Host
		httputil.NewSingleHostReverseProxy(target).ServeHTTP(w, r)
	}))
	defer outbound.Close()
	public := strings.Replace(front.URL, "127.0.0.1", "localhost", 1)
	h.serve("--public-url", public, "--outbound-proxy", outbound.URL)
	c.Alder.Consents.Register(standin.Client{ID: standin.AlderClient, Secret: "alder-app",
		Redirects: []string{"http://localhost/consent/callback"}})
	consent, err := h.client().BeginConsent(t.Context(),
		contract.Consenting{Way: "page", Link: contract.Link{Provider: "alder", Name: "office-drive",
			Options: map[string]string{"url": "http://alder.example"}}})
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(consent.URL, url.QueryEscape(public+"/consent/callback")) {
		t.Fatalf("it leads back to elsewhere: %s", consent.URL)
	}
	if err := demo.Agree(t.Context(), strings.Replace(consent.URL, "http://alder.example", c.AlderURL, 1), alderUser); err != nil {
		t.Fatal(err)
	}
	if consent, err = h.client().Consent(t.Context(), consent.ID); err != nil || consent.State != "linked" || through == 0 {
		t.Errorf("%+v, %v, %d requests through the proxy", consent, err, through)
	}
}
