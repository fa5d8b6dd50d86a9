package e2e

import (
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
)

// says runs a command and wants its exit code, and words in what it prints.
func (h *heron) says(input string, code int, words string, args ...string) result {
	h.t.Helper()
	r := h.run(input, args...)
	if r.code != code || !strings.Contains(r.out+r.err, words) {
		h.t.Errorf("heron %s: exit %d, want %d and %q:\n%s%s", strings.Join(args, " "), r.code, code, words, r.out, r.err)
	}
	return r
}

func (h *heron) account(name string) (account contract.Account) {
	h.t.Helper()
	if err := json.Unmarshal([]byte(h.must("account", "show", name, "--json")), &account); err != nil {
		h.t.Fatal(err)
	}
	return account
}

// events are what happened to a link, in words.
func (h *heron) events(name string) (what []string, all []contract.LinkEvent) {
	h.t.Helper()
	decoder := json.NewDecoder(strings.NewReader(h.must("account", "history", name, "--json")))
	for decoder.More() {
		var event contract.LinkEvent
		if err := decoder.Decode(&event); err != nil {
			h.t.Fatal(err)
		}
		what, all = append(what, event.What), append(all, event)
	}
	return what, all
}

func shellOptions(server *servertest.Shell, path string) []string {
	return []string{"--host", server.Host, "--port", server.Port, "--user", server.User, "--path", path}
}

// TestLifeOfALink goes through all that can happen to one.
func TestLifeOfALink(t *testing.T) {
	t.Parallel()
	h := start(t)
	server := servertest.StartOpenSSH(t)
	path := server.Folder(t)
	writeFile(t, "one", path, "Surveys", "a.csv")
	desk := t.TempDir()
	h.linkFolder("desk", desk)
	link := append([]string{"account", "link", "sftp", "gauges", "--secret-file", "-"}, shellOptions(server, path)...)
	h.says("wrong\n", 1, "does not accept the user field with this password", link...)
	out := h.says(server.Password+"\n", 0, "Linked SFTP server as /gauges", link...).out
	if !strings.Contains(out, server.HostKey) || !strings.Contains(out, "Surveys/") {
		t.Errorf("linking does not show the host key, or the folders:\n%s", out)
	}
	h.says(server.Password+"\n", 2, "called \"gauges\" already", link...)
	h.says("", 0, "last seen 20", "account", "show", "gauges")
	first := h.copy("/gauges/Surveys", "/desk")
	if first.Items.Done != 1 {
		t.Errorf("%+v", first.Items)
	}

	h.must("account", "suspend", "gauges")
	h.says("", 0, "suspended", "account", "list")
	if out := h.must("ls", "/"); strings.Contains(out, "gauges") {
		t.Errorf("a suspended account is in the tree:\n%s", out)
	}
	h.says("", 1, "heron account resume gauges", "ls", "/gauges")
	h.says("", 1, "heron account resume gauges", "copy", "/gauges/Surveys", "/desk")
	h.must("account", "resume", "gauges")
	h.says("", 0, "a.csv", "ls", "/gauges/Surveys")

	h.must("account", "edit", "gauges", "--name", "loggers")
	h.says("", 1, "There is no account \"gauges\"", "ls", "/gauges")
	h.says("", 2, "called \"desk\" already", "account", "edit", "loggers", "--name", "desk")
	if run := h.state(first.ID); run.Routes[0].From != "/loggers/Surveys" {
		t.Errorf("the run's route is %+v", run.Routes)
	}
	// What was copied is still known: the pairs are by the account's id.
	if again := h.copy("/loggers/Surveys", "/desk"); again.Items.UpToDate != 1 || again.Items.Done != 0 {
		t.Errorf("after the renaming: %+v", again.Items)
	}
	h.says("wrong\n", 1, "does not accept", "account", "edit", "loggers", "--secret-file", "-")
	h.says(server.Password+"\n", 0, "Changed /loggers", "account", "edit", "loggers", "--secret-file", "-")
	h.says("", 0, "Changed /loggers", "account", "edit", "loggers", "--start", "Surveys")
	h.says("", 0, "a.csv", "ls", "/loggers")
	h.says("", 1, "Make it, or give another starting folder", "account", "edit", "loggers", "--start", "None")
	h.says("", 2, "There is nothing to change", "account", "edit", "loggers")
	h.says("", 2, "--bucket", "account", "edit", "loggers", "--bucket", "x")
	h.says("", 0, "Changed /loggers", "account", "edit", "loggers", "--read-only")
	h.says("x", 1, "read only", "mkdir", "/loggers/new")

	h.says("", 2, "Say so with --yes", "account", "unlink", "loggers")
	h.says("", 0, "link --again loggers", "account", "unlink", "loggers", "--yes")
	what, events := h.events("loggers")
	if got := strings.Join(what, " "); got != "linked suspended resumed renamed changed changed changed unlinked" {
		t.Errorf("the history is %s", got)
	}
	for _, event := range events {
		if event.By != "the owner, by a token" {
			t.Errorf("%s by %q", event.What, event.By)
		}
	}
	if history := h.must("account", "history"); strings.Contains(history, server.Password) ||
		!strings.Contains(history, "start Surveys in place of none") {
		t.Errorf("the history tells the secret, or not what changed:\n%s", history)
	}
	h.says("wrong\n", 1, "does not accept", "account", "link", "--again", "loggers", "--secret-file", "-")
	h.says("", 1, "was ever called", "account", "link", "--again", "nobody")
	h.says(server.Password+"\n", 0, "Linked SFTP server as /loggers", "account", "link", "--again", "loggers", "--secret-file", "-")
	again := h.account("loggers")
	if again.Start != "Surveys" || !again.ReadOnly || again.Options["host-key"] != server.HostKey || again.Options["path"] != path {
		t.Errorf("linked again as %+v", again)
	}
	if what, _ := h.events("loggers"); what[len(what)-1] != "linked" || len(what) != 9 {
		t.Errorf("the history does not go on: %v", what)
	}
	h.says("", 2, "Nothing has to be linked again", "account", "link", "--again", "loggers")
}

// TestChangesWhileARunGoes has a run in the middle while its account is suspended,
// renamed and given a new password: it goes on each time, and misses nothing.
func TestChangesWhileARunGoes(t *testing.T) {
	t.Parallel()
	h := start(t)
	desk := t.TempDir()
	for i := range 200 {
		writeFile(t, strings.Repeat("x", 20_000)+string(rune('a'+i%26)), desk, "all", string(rune('a'+i%26)), time.Duration(i).String())
	}
	h.linkFolder("desk", desk)
	proxy := h.linkSlow("archive", 1<<20)
	started, err := h.client().Copy(t.Context(), contract.Copy{From: []string{"/desk/all"}, To: "/archive"})
	if err != nil {
		t.Fatal(err)
	}
	waitForItems(t, h, started.Run, 10)
	h.says("", 1, "in use by the run", "account", "unlink", "archive", "--yes")
	h.must("account", "suspend", "archive")
	h.waitState(started.Run, "held")
	if run := h.state(started.Run); run.Cause != "account-suspended" || !strings.Contains(run.Why+run.Remedy, "resume") {
		t.Errorf("held for %q: %s %s", run.Cause, run.Why, run.Remedy)
	}
	h.must("account", "resume", "archive")
	waitForItems(t, h, started.Run, 30)
	h.must("account", "edit", "archive", "--name", "attic")
	waitForItems(t, h, started.Run, 60)
	h.says(proxy.server.Secret, 0, "Changed /attic", "account", "edit", "attic", "--secret-file", "-")
	run := h.until(started.Run, "done")
	if run.Routes[0].To != "/attic/all" || run.Items.Done != 200 || run.Items.Failed != 0 {
		t.Errorf("%+v, %+v", run.Routes, run.Items)
	}
	back := t.TempDir()
	h.must("get", "/attic/all", back)
	same(t, "in the archive", digest(t, filepath.Join(back, "all")), digest(t, filepath.Join(desk, "all")))
}

// TestEditToAnotherStorage is asked about, unless the place has the mark that was
// left there.
func TestEditToAnotherStorage(t *testing.T) {
	t.Parallel()
	h := start(t)
	server := servertest.StartOpenSSH(t)
	other := servertest.StartOpenSSH(t)
	path := server.Folder(t)
	writeFile(t, "one", path, "a.csv")
	h.link(server.Password, append([]string{"sftp", "gauges"}, shellOptions(server, path)...)...)
	edit := append([]string{"account", "edit", "gauges", "--host-key", other.HostKey}, shellOptions(other, other.Folder(t))...)
	h.says("", 1, "is not sent to", edit...)
	edit = append(edit, "--secret-file", "-")
	h.says(other.Password, 3, "another place", edit...)
	if account := h.account("gauges"); account.Options["port"] != server.Port || account.Options["host-key"] != server.HostKey {
		t.Errorf("it was changed all the same: %+v", account.Options)
	}
	// The same storage at another address is known by its mark.
	relay := servertest.StartRelay(t, net.JoinHostPort(server.Host, server.Port))
	h.says(server.Password, 0, "Changed /gauges", "account", "edit", "gauges", "--port", relay.Port, "--secret-file", "-")
	h.says("", 0, "a.csv", "ls", "/gauges")
	h.says(other.Password, 0, "Changed /gauges", append(edit, "--yes")...)
	if out := h.must("ls", "/gauges"); strings.Contains(out, "a.csv") {
		t.Errorf("it is still the first storage:\n%s", out)
	}
	if _, events := h.events("gauges"); !strings.Contains(events[len(events)-1].Why, "port "+other.Port+" in place of "+relay.Port) {
		t.Errorf("the history says %q", events[len(events)-1].Why)
	}
}

// TestPrivateKeysAndHostKeys links by key, and meets a server with another host key.
func TestPrivateKeysAndHostKeys(t *testing.T) {
	t.Parallel()
	h := start(t)
	server := servertest.StartOpenSSH(t)
	path := server.Folder(t)
	dir := t.TempDir()
	key, locked, loose := filepath.Join(dir, "key"), filepath.Join(dir, "locked"), filepath.Join(dir, "loose")
	for file, content := range map[string]string{key: server.Key, locked: server.LockedKey, loose: server.Key} {
		if err := os.WriteFile(file, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(loose, 0o644); err != nil {
		t.Fatal(err)
	}
	link := func(name string, more ...string) []string {
		return append(append([]string{"account", "link", "sftp", name}, shellOptions(server, path)...), more...)
	}
	h.says("", 2, "chmod 600 "+loose, link("by-key", "--key-file", loose)...)
	h.says("", 2, "cannot be read", link("by-key", "--key-file", filepath.Join(dir, "none"))...)
	h.says("wrong\n", 2, "passphrase does not open", link("by-key", "--key-file", locked, "--secret-file", "-")...)
	h.says("", 2, "passphrase", link("by-key", "--key-file", locked)...)
	h.says("", 0, "Linked", link("by-key", "--key-file", key)...)
	h.says(server.Passphrase+"\n", 0, "Linked", link("by-locked-key", "--key-file", locked, "--secret-file", "-")...)
	h.says(server.Passphrase+"\n", 0, "Reauthorized", "account", "reauthorize", "by-key", "--key-file", locked, "--secret-file", "-")

	server.Stop()
	server.NewHostKey(t)
	server.Start(t)
	h.end(syscall.SIGTERM)
	h.serve()
	h.says("", 1, "another host key", "account", "check", "by-locked-key")
	account := h.account("by-locked-key")
	if account.State != "sign-in-expired" || !strings.Contains(account.Why, server.HostKey) {
		t.Errorf("its state is %s: %s", account.State, account.Why)
	}
	h.says("", 0, "Changed", "account", "edit", "by-locked-key", "--host-key", server.HostKey)
	if account := h.account("by-locked-key"); account.State != "linked" {
		t.Errorf("its state is %s: %s", account.State, account.Why)
	}
	if what, _ := h.events("by-locked-key"); strings.Join(what, " ") != "linked sign-in-expired changed" {
		t.Errorf("its history is %v", what)
	}
	if log := h.log.String(); strings.Contains(log, server.Passphrase) || strings.Contains(log, "PRIVATE KEY") {
		t.Error("the log tells a secret")
	}
}

// TestBehindOneSignIn links several places with one.
func TestBehindOneSignIn(t *testing.T) {
	t.Parallel()
	h := start(t)
	samba := servertest.StartSamba(t, servertest.SambaOptions{})
	smb := []string{"account", "link", "smb", "office", "--host", samba.Host, "--port", samba.Port, "--user", samba.User, "--secret-file", "-"}
	h.says(samba.Password, 2, "There are Permits, Surveys", smb...)
	h.says(samba.Password, 2, "There is no share \"None\"", append(smb, "--take", "Surveys,None")...)
	h.says(samba.Password, 0, "Linked SMB share as /office-surveys", append(smb, "--take", "all")...)
	h.says("", 0, "office-permits", "ls", "/")

	objects := servertest.StartObjectStore(t)
	one, two := objects.Bucket(t), objects.Bucket(t)
	s3 := []string{"account", "link", "s3", "archive", "--endpoint", objects.Endpoint, "--key", objects.Key, "--secret-file", "-"}
	h.says(objects.Secret, 2, "There are "+one+", "+two, s3...)
	h.says(objects.Secret, 0, "Linked S3-compatible object store as /archive", append(s3, "--take", two)...)
	if account := h.account("archive"); account.Options["bucket"] != two {
		t.Errorf("linked %v", account.Options)
	}
	behind, err := h.client().AccountResources(t.Context(), "archive")
	if err != nil || len(behind.Resources) != 2 || behind.Resources[1].Linked != "archive" || behind.Resources[0].Linked != "" {
		t.Fatalf("%+v, %v", behind, err)
	}
	if _, err := h.client().LinkResource(t.Context(), "archive", contract.Taking{Value: one, Name: "archive-two"}); err != nil {
		t.Fatal(err)
	}
	// What shares a sign-in is mended together, and outlives the one that had it.
	h.says(objects.Secret, 0, "Reauthorized", "account", "reauthorize", "archive-two", "--secret-file", "-")
	h.must("account", "unlink", "archive", "--yes")
	h.must("mkdir", "/archive-two/new")

	c := clouds(t)
	h.agree(contract.Consenting{Link: contract.Link{Provider: "sedge", Name: "drive",
		Options: map[string]string{"url": c.SedgeURL, "client-id": "own"}, Secret: "own-secret"}}, sedgeUser)
	if behind, err = h.client().AccountResources(t.Context(), "drive"); err != nil || behind.Option != "area" || len(behind.Resources) < 2 ||
		behind.Resources[0].Linked != "drive" {
		t.Fatalf("%+v, %v", behind, err)
	}
	if _, err := h.client().LinkResource(t.Context(), "drive", contract.Taking{Value: behind.Resources[1].Value, Name: "team"}); err != nil {
		t.Fatal(err)
	}
	// Both renew the one sign-in that they share, again and again.
	for range 3 {
		c.Sedge.Consents.Expire()
		for _, name := range []string{"/drive", "/team", "/drive"} {
			h.must("ls", name)
		}
	}
	h.must("account", "unlink", "drive", "--yes")
	c.Sedge.Consents.Expire()
	h.must("mkdir", "/team/still here")
}

// TestSpeed measures, compares with the time before, and leaves nothing.
func TestSpeed(t *testing.T) {
	t.Parallel()
	h := start(t)
	server := servertest.StartOpenSSH(t)
	path, desk := server.Folder(t), t.TempDir()
	h.link(server.Password, append([]string{"sftp", "gauges"}, shellOptions(server, path)...)...)
	h.linkFolder("desk", desk)
	h.says("", 1, "Nothing was measured", "account", "speed", "desk", "--last")
	r := h.says("", 0, "FILES", "account", "speed", "gauges", "desk", "--size", "64KiB", "--number", "8")
	for _, words := range []string{"/gauges", "/desk", "write", "read", "remove", "8 of 64 KiB, 4 at once", "ms"} {
		if !strings.Contains(r.out, words) {
			t.Errorf("it does not say %q:\n%s", words, r.out)
		}
	}
	var speed contract.Speed
	if err := json.Unmarshal([]byte(h.must("account", "speed", "gauges", "--size", "64KiB", "--number", "8", "--json")), &speed); err != nil {
		t.Fatal(err)
	}
	if speed.Write.Files <= 0 || speed.Read.Rate <= 0 || speed.Remove.Delay <= 0 || speed.Write.Slowest < speed.Write.Delay {
		t.Errorf("%+v", speed)
	}
	h.says("", 0, "a second, 20", "account", "speed", "gauges", "--size", "64KiB", "--number", "8")
	for _, root := range []string{path, desk} {
		for name := range digest(t, root) {
			if name != "./" && name != ".heron/" {
				t.Errorf("%s is left in %s", name, root)
			}
		}
	}
	h.says("", 2, "is not a size", "account", "speed", "gauges", "--size", "much")
	h.says("", 2, "number", "account", "speed", "gauges", "--number", "0")
	h.must("account", "edit", "desk", "--read-only")
	h.says("", 1, "a speed check writes", "account", "speed", "desk")
	h.says("", 0, "announced itself", "account", "discover", "--within", "200ms")
}

// TestLinkInTerminal answers what a person is asked: whether it is the right server,
// and which of the places behind a sign-in are meant.
func TestLinkInTerminal(t *testing.T) {
	t.Parallel()
	h := start(t)
	shell := servertest.StartOpenSSH(t)
	link := append([]string{"account", "link", "sftp", "gauges"}, shellOptions(shell, shell.Folder(t))...)
	p := h.terminal(link...)
	p.shows("shows the host key " + regexp.QuoteMeta(shell.HostKey))
	p.shows("Is it the right one")
	p.file.WriteString("n\n")
	p.shows("Nothing was changed")
	p = h.terminal(link...)
	p.shows("Is it the right one")
	p.file.WriteString("y\n")
	p.shows("not shown")
	p.file.WriteString(shell.Password + "\n")
	p.shows("Linked SFTP server as /gauges")
	p.ends()

	samba := servertest.StartSamba(t, servertest.SambaOptions{})
	p = h.terminal("account", "link", "smb", "office", "--host", samba.Host, "--port", samba.Port, "--user", samba.User)
	p.shows("not shown")
	p.file.WriteString(samba.Password + "\n")
	p.shows("Which ones should be linked")
	p.file.WriteString("Permits, Surveys\n")
	p.shows("as /office-surveys")
	p.ends()
	h.says("", 0, "office-permits", "ls", "/")

	other := servertest.StartSamba(t, servertest.SambaOptions{})
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte(other.Password), 0o600); err != nil {
		t.Fatal(err)
	}
	p = h.terminal("account", "edit", "office-permits", "--port", other.Port, "--secret-file", secret)
	p.shows("Change it all the same")
	p.file.WriteString("n\n")
	p.shows("Nothing was changed")
	if account := h.account("office-permits"); account.Options["port"] != samba.Port {
		t.Errorf("it was changed all the same: %v", account.Options)
	}
}

// TestRecordsGone ends the service where its records are moved away under it, rather than
// go on writing into what nobody will find.
func TestRecordsGone(t *testing.T) {
	t.Parallel()
	h := start(t)
	records := filepath.Join(h.data, "heron.db")
	if err := os.Rename(records, records+".away"); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- h.cmd.Wait() }()
	select {
	case err := <-ended:
		if err == nil || !strings.Contains(h.log.String(), records+" was moved, removed or replaced") {
			t.Errorf("it ended with %v, and said: %s", err, h.log)
		}
	case <-time.After(longestWait):
		t.Fatal("it goes on without its records")
	}
	if err := os.Rename(records+".away", records); err != nil {
		t.Fatal(err)
	}
	h.serve()
	h.must("account", "list")
}

// TestTryLink reaches an account without linking it; an option of linking is refused where it
// would not be obeyed.
func TestTryLink(t *testing.T) {
	t.Parallel()
	h := start(t)
	path := t.TempDir()
	writeFile(t, "x", path, "Surveys", "a.csv")
	if out := h.must("account", "link", "folder", "desk", "--path", path, "--try"); !strings.Contains(out, "It is not linked.") ||
		!strings.Contains(out, "Surveys") {
		t.Errorf("trying says %s", out)
	}
	if out := h.must("account", "list", "--json"); strings.Contains(out, "desk") {
		t.Errorf("trying has linked the account: %s", out)
	}
	h.linkFolder("desk", path)
	h.says("", 2, "already", "account", "link", "folder", "desk", "--path", path, "--try")
	h.says("", 2, "--try is an option of heron account link", "account", "edit", "desk", "--try")
	h.says("secret\n", 2, "ame the bucket to try", "account", "link", "s3", "store", "--endpoint", "http://127.0.0.1:1", "--key", "a",
		"--secret-file", "-", "--try")
	if code, answer, _ := h.send("POST", contract.Root+"/consents", h.token(),
		strings.NewReader(`{"provider":"sedge","name":"drive","try":true,"way":"device"}`), "Content-Type", "application/json"); code != 409 {
		t.Errorf("trying by consent: %d %s", code, answer)
	}
}
