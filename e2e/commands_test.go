package e2e

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/minio/minio-go/v7"

	"deftheron/client"
	"deftheron/servertest"
)

var putOptions = minio.PutObjectOptions{DisableContentSha256: true}

// TestBadInput gives each kind of mistake, and wants one clear sentence, a
// remedy, the right exit code, and nothing changed.
func TestBadInput(t *testing.T) {
	h := start(t)
	server := servertest.StartObjectStore(t)
	bucket := server.Bucket(t)
	desk, archive := t.TempDir(), t.TempDir()
	writeFile(t, "x", desk, "in", "x.txt")
	writeFile(t, "a file", archive, "file")
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	h.linkFolder("desk-in", filepath.Join(desk, "in"))
	secret := filepath.Join(t.TempDir(), "secret")
	writeFile(t, server.Secret, secret)
	writeFile(t, "wrong", secret+"-wrong")
	s3 := func(change ...string) []string {
		args := []string{"account", "link", "s3", "new", "--endpoint", server.Endpoint, "--bucket", bucket, "--key", server.Key, "--secret-file",
			secret}
		return append(args, change...)
	}
	before := digest(t, archive)
	for _, c := range []struct {
		what string
		args []string
		code int
		want []string
	}{
		{"unknown provider", []string{"account", "link", "cloud", "new"}, 2,
			[]string{"There is no provider", "alder, folder, ftp, s3, sealed, sedge, sftp, smb, webdav"}},
		{"unknown option", []string{"account", "link", "folder", "new", "--colour", "blue"}, 2, []string{"--colour", "--path"}},
		{"missing option", []string{"account", "link", "folder", "new"}, 2, []string{"--path", "missing"}},
		{"name taken", []string{"account", "link", "folder", "desk", "--path", desk}, 2, []string{"called \"desk\" already", "another name"}},
		{"name malformed", []string{"account", "link", "folder", "My Desk", "--path", desk}, 2,
			[]string{"lower-case letters, digits and hyphens"}},
		{"missing folder", []string{"account", "link", "folder", "new", "--path", desk + "/nowhere"}, 1, []string{"cannot be opened", "--path"}},
		{"missing start", []string{"account", "link", "folder", "new", "--path", desk, "--start", "nowhere"}, 1,
			[]string{"starting folder", "--start"}},
		{"a file as folder", []string{"account", "link", "folder", "new", "--path", desk + "/in/x.txt"}, 1,
			[]string{"is a file", "Give the path of a folder"}},
		{"host that is not there", s3("--endpoint", "http://nowhere.invalid"), 1, []string{"not known", "--endpoint"}},
		{"wrong port", s3("--endpoint", "http://127.0.0.1:1"), 1, []string{"Nothing answers", "--endpoint"}},
		{"wrong key", s3("--key", "nobody"), 1, []string{"does not know the access key", "--key"}},
		{"wrong secret", s3("--secret-file", secret+"-wrong"), 1, []string{"secret is not the one", "--secret-file"}},
		{"missing bucket", s3("--bucket", "missing-bucket"), 1, []string{"no bucket", "--bucket"}},
		{"missing secret file", s3("--secret-file", "/nowhere"), 2, []string{"cannot be read"}},
		{"secret as an argument", s3("--secret", "hunter2"), 2, []string{"never an argument", "--secret-file"}},
		{"no such account", []string{"ls", "/nobody/x"}, 1, []string{"no account \"nobody\"", "desk"}},
		{"not an address", []string{"ls", "desk/x"}, 2, []string{"is not an address", "begins with /"}},
		{"nothing there", []string{"stat", "/desk/nothing"}, 1, []string{"does not exist", "heron ls /desk"}},
		{"source missing", []string{"copy", "/desk/nothing", "/archive"}, 1, []string{"is not there", "Look at what is in /desk"}},
		{"copy from no account", []string{"copy", "/nobody/x", "/archive"}, 1, []string{"no account \"nobody\""}},
		{"target inside its source", []string{"copy", "/desk/in", "/desk/in/deeper"}, 1, []string{"inside its own source", "target outside"}},
		{"the same through another account", []string{"copy", "/desk", "/desk-in"}, 1, []string{"inside its own source"}},
		{"target is a file", []string{"copy", "/desk/in", "/archive/file"}, 1, []string{"is a file", "another target"}},
		{"target cannot hold the name", []string{"copy", "/desk/in", "/archive/" + strings.Repeat("n", 300)}, 1,
			[]string{"255 bytes", "another name"}},
		{"target is the root", []string{"copy", "/desk/in", "/"}, 2, []string{"root of all accounts", "name an account"}},
		{"unknown rule", []string{"copy", "/desk/in", "/archive", "--conflict", "win"}, 2, []string{"keep-both, newer, source, target or ask"}},
		{"two of one name", []string{"copy", "/desk/in", "/desk-in/../in", "/archive"}, 2, []string{"would both become"}},
		{"one word short", []string{"copy", "/desk/in"}, 2, []string{"a target"}},
		{"unknown verb", []string{"run", "stop"}, 2, []string{"no verb", "--help"}},
		{"unknown flag", []string{"ls", "--long"}, 2, []string{"--long"}},
		{"no such run", []string{"run", "show", "nothing"}, 1, []string{"no run", "heron run list"}},
		{"unknown state", []string{"run", "items", "x", "--state", "bad"}, 2, []string{"waiting, done, skipped or failed"}},
		{"unlink unasked", []string{"account", "unlink", "desk"}, 2, []string{"--yes"}},
	} {
		r := h.run("", c.args...)
		if r.code != c.code {
			t.Errorf("%s: exit %d, want %d: %s", c.what, r.code, c.code, r.err)
		}
		for _, want := range c.want {
			if !strings.Contains(strings.ToLower(r.err), strings.ToLower(want)) {
				t.Errorf("%s: it says %q; want it to say %q", c.what, strings.TrimSpace(r.err), want)
			}
		}
		if strings.Contains(r.err, server.Secret) || strings.Contains(r.err, "hunter2") {
			t.Errorf("%s: the error holds the secret", c.what)
		}
	}
	same(t, "the target", digest(t, archive), before)
	if accounts, err := h.client().Accounts(t.Context()); err != nil || len(accounts) != 3 {
		t.Errorf("%d accounts are linked, %v; want the three of before", len(accounts), err)
	}
	if strings.Contains(h.log.String(), server.Secret) || strings.Contains(h.log.String(), h.token()) {
		t.Error("the service's log holds a secret")
	}
}

// TestNotSignedIn wants every part of the service shut, but for what must not be.
func TestNotSignedIn(t *testing.T) {
	h := start(t)
	for _, c := range []struct {
		method, path, origin, host, token string
		want                              int
	}{
		{"GET", "/healthz", "", "", "", 200},
		{"GET", "/signin", "", "", "", 200},
		{"GET", "/api/v1/whoami", "", "", "", 401},
		{"GET", "/api/v1/openapi.json", "", "", "", 401},
		{"GET", "/api/v1/openapi.json", "", "", h.token(), 200},
		{"GET", "/api/v1/live", "", "", "", 401},
		{"GET", "/api/v1/runs/x/report", "", "", "", 401},
		{"GET", "/api/v1/content?address=/desk/x", "", "", "", 401},
		{"PUT", "/api/v1/content?address=/desk/x", "", "", "", 401},
		{"PUT", "/api/v1/content?address=/desk/x", "http://evil.example", "", h.token(), 403},
		{"GET", "/api/v1/archive?address=/desk", "", "", "", 401},
		{"GET", "/api/v1/comparison?here=/a&there=/b", "", "", "", 401},
		{"POST", "/api/v1/removals", "", "", "", 401},
		{"POST", "/api/v1/copies", "", "", "wrong", 401},
		{"GET", "/api/v1/whoami", "", "", h.token(), 200},
		{"GET", "/api/v1/whoami", "", "evil.example:80", h.token(), 421},
		{"GET", "/healthz", "", "evil.example", "", 421},
		{"GET", "/api/v1/whoami", "http://evil.example", "", h.token(), 403},
		{"POST", "/api/v1/session", "http://evil.example", "", "", 403},
		{"GET", "/api/v1/nothing", "", "", h.token(), 404},
	} {
		request, err := http.NewRequest(c.method, "http://"+h.listen+c.path, nil)
		if err != nil {
			t.Fatal(err)
		}
		if c.origin != "" {
			request.Header.Set("Origin", c.origin)
		}
		if c.host != "" {
			request.Host = c.host
		}
		if c.token != "" {
			request.Header.Set("Authorization", "Bearer "+c.token)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		if response.StatusCode != c.want {
			t.Errorf("%s %s (origin %q, host %q): %d, want %d", c.method, c.path, c.origin, c.host, response.StatusCode, c.want)
		}
		if policy := response.Header.Get("Content-Security-Policy"); policy == "" {
			t.Errorf("%s %s has no Content-Security-Policy", c.method, c.path)
		}
	}
	stranger := exec.Command(program, "ls")
	stranger.Env = append(os.Environ(), "HERON_URL=http://"+h.listen, "HERON_TOKEN=wrong")
	if out, _ := stranger.CombinedOutput(); stranger.ProcessState.ExitCode() != 4 || !strings.Contains(string(out), "heron signin") {
		t.Errorf("a wrong token: exit %d, %s", stranger.ProcessState.ExitCode(), out)
	}
	r := h.run("", "whoami", "--service", "http://127.0.0.1:1")
	if r.code != 1 || !strings.Contains(r.err, "heron serve") {
		t.Errorf("without a service: exit %d, %s", r.code, r.err)
	}
}

// TestCommands runs what the grammar promises, and reads what scripts hold on to.
func TestCommands(t *testing.T) {
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	writeFile(t, "content", desk, "Reports", "one.txt")
	writeFile(t, "more", desk, "Reports", "two.txt")
	if err := os.Symlink("one.txt", filepath.Join(desk, "Reports", "link")); err != nil {
		t.Fatal(err)
	}
	if out := h.must("account", "link", "folder", "desk", "--path", desk); !strings.Contains(out, "/desk") ||
		!strings.Contains(out, "Reports/") || !strings.Contains(out, "free of") {
		t.Errorf("linking says:\n%s", out)
	}
	h.must("account", "link", "folder", "archive", "--path", archive, "--json")
	h.must("account", "check", "desk")
	if out := h.must("account", "list"); !strings.Contains(out, desk) {
		t.Errorf("the list says:\n%s", out)
	}
	var entries []map[string]any
	for _, line := range strings.Split(strings.TrimSpace(h.must("ls", "/desk/Reports", "--json")), "\n") {
		var entry map[string]any
		if err := json.Unmarshal([]byte(line), &entry); err != nil {
			t.Fatalf("%v: %s", err, line)
		}
		entries = append(entries, entry)
	}
	if len(entries) != 3 || entries[1]["name"] != "one.txt" || entries[1]["address"] != "/desk/Reports/one.txt" ||
		entries[1]["kind"] != "file" || entries[1]["size"] != 7.0 || entries[1]["modified"] == nil || entries[0]["kind"] != "other" {
		t.Errorf("the listing as JSON: %v", entries)
	}
	h.must("stat", "/desk/Reports/one.txt")

	r := h.run("", "copy", "/desk/Reports", "/archive", "--detach", "--json")
	var started struct{ Run string }
	if err := json.Unmarshal([]byte(r.out), &started); err != nil || started.Run == "" {
		t.Fatalf("copy --detach --json: %s%s", r.out, r.err)
	}
	h.must("run", "follow", started.Run)
	var run map[string]any
	if err := json.Unmarshal([]byte(h.must("run", "show", started.Run, "--json")), &run); err != nil {
		t.Fatal(err)
	}
	items, _ := run["items"].(map[string]any)
	bytes, _ := run["bytes"].(map[string]any)
	if run["id"] != started.Run || run["state"] != "done" || items["done"] != 2.0 || items["skipped"] != 1.0 || items["failed"] != 0.0 ||
		items["waiting"] != 0.0 || bytes["transferred"] != 11.0 || bytes["total"] != 11.0 || run["started"] == nil || run["ended"] == nil ||
		run["job"] == "" {
		t.Errorf("run show --json: %v", run)
	}
	if skipped := h.must("run", "items", started.Run, "--state", "skipped", "--json"); !strings.Contains(skipped, `"cause":"not-a-file"`) ||
		!strings.Contains(skipped, `"remedy":"Copy what it points to`) {
		t.Errorf("the skipped item: %s", skipped)
	}
	h.must("run", "list")
	if out := h.run("", "run", "cancel", started.Run, "--yes"); out.code == 0 || !strings.Contains(out.err, "nothing to cancel") {
		t.Errorf("cancelling what has ended: %+v", out)
	}
	report := filepath.Join(t.TempDir(), "report.csv")
	h.must("run", "report", started.Run, "--out", report)
	table, _ := os.ReadFile(report)
	if lines := strings.Split(strings.TrimSpace(string(table)), "\n"); len(lines) != 4 || !strings.Contains(string(table), "crc64nvme=") {
		t.Errorf("the report:\n%s", table)
	}
	if r := h.run("", "run", "report", started.Run, "--out", report); r.code != 2 || !strings.Contains(r.err, "--yes") {
		t.Errorf("writing over a report unasked: %+v", r)
	}
	var whole struct{ Items []any }
	if err := json.Unmarshal([]byte(h.must("run", "report", started.Run, "--format", "json")), &whole); err != nil || len(whole.Items) != 3 {
		t.Errorf("the report as JSON: %d items, %v", len(whole.Items), err)
	}
	if page := h.must("run", "report", started.Run, "--format", "html"); !strings.Contains(page, "All items were transferred and verified") {
		t.Error("the page does not say what came of it")
	}
	if r := h.run(h.token()+"\n", "signin", "--token-file", "-"); r.code != 0 {
		t.Errorf("signin: %+v", r)
	}
	if info, err := os.Stat(filepath.Join(h.data, "config", "heron", "access.json")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the sign-in is kept as %v, %v; want mode 0600", info, err)
	}
	if out := h.must("signin", "--console"); !strings.Contains(out, "/signin#") {
		t.Errorf("signin --console says: %s", out)
	}
	h.must("whoami")
	h.must("signout")
	h.must("account", "unlink", "desk", "--yes")
	if _, err := os.Stat(filepath.Join(desk, "Reports", "one.txt")); err != nil {
		t.Error("unlinking removed what is there")
	}
	h.must("version", "--json")
}

// TestDataFolder starts services on data folders that are not as they should be.
func TestDataFolder(t *testing.T) {
	h := start(t)
	server := servertest.StartObjectStore(t)
	h.linkBucket("archive", server, server.Bucket(t))
	again := func(args ...string) result {
		args = append([]string{"serve", "--data", h.data, "--listen", servertest.FreeAddress(t)}, args...)
		return h.run("", args...)
	}
	if r := again(); r.code != 1 || !strings.Contains(r.err, "in use by another service") || !strings.Contains(r.err, "--data") {
		t.Errorf("two services on one folder: %+v", r)
	}
	if r := again("--listen", "0.0.0.0:0"); r.code != 1 || !strings.Contains(r.err, "--tls-cert") {
		t.Errorf("a network without TLS: %+v", r)
	}
	h.end(15)
	key := filepath.Join(h.data, "heron.key")
	kept, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	if info, _ := os.Stat(key); info.Mode().Perm() != 0o600 {
		t.Errorf("the key has mode %v", info.Mode())
	}
	sealed, _ := os.ReadFile(filepath.Join(h.data, "heron.db"))
	if strings.Contains(string(sealed), server.Secret) {
		t.Error("the secret stands unsealed in the records")
	}
	for what, prepare := range map[string]func(){
		"missing":  func() { os.Remove(key) },
		"damaged":  func() { os.WriteFile(key, []byte("nonsense"), 0o600) },
		"another":  func() { os.WriteFile(key, []byte("AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=\n"), 0o600) },
		"readable": func() { os.Remove(key); os.WriteFile(key, kept, 0o644) },
	} {
		prepare()
		if r := again(); r.code != 1 || !strings.Contains(r.err, "key file") || !strings.Contains(r.err, "HERON_KEY_FILE") {
			t.Errorf("a key that is %s: %+v", what, r)
		}
		if _, err := os.Stat(key); what == "missing" && err == nil {
			t.Error("a missing key was silently made again")
		}
	}
	os.Remove(key)
	h.env = []string{"HERON_KEY_FILE=" + key + "-elsewhere"}
	os.WriteFile(key+"-elsewhere", kept, 0o600)
	h.serve()
	h.must("account", "check", "archive")
	h.end(15)
	h.env = nil
	h.serve("--forget-secrets")
	if r := h.run("", "account", "check", "archive"); r.code != 1 || !strings.Contains(r.err, "link it again") {
		t.Errorf("an account whose secret was forgotten: %+v", r)
	}
	h.must("account", "unlink", "archive", "--yes")
	h.linkBucket("archive", server, "bucket-1")
	h.end(15)

	makeNewer(t, filepath.Join(h.data, "heron.db"))
	if r := again(); r.code != 1 || !strings.Contains(r.err, "newer version") || !strings.Contains(r.err, "--data") {
		t.Errorf("a folder of a newer version: %+v", r)
	}
}

// TestTerminal copies on a terminal: first it says what will be done, then it
// draws how far it has come.
func TestTerminal(t *testing.T) {
	h := start(t)
	desk, archive := t.TempDir(), t.TempDir()
	for i := range 200 {
		writeFile(t, strings.Repeat("x", 10_000), desk, fmt.Sprint(i))
	}
	h.linkFolder("desk", desk)
	h.linkFolder("archive", archive)
	command := exec.Command("script", "-qec", program+" copy /desk /archive", "/dev/null")
	command.Env = append(os.Environ(), "HERON_URL=http://"+h.listen, "HERON_TOKEN="+h.token(), "TERM=xterm-256color")
	out, err := command.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for _, want := range []string{"To /archive/desk: copy 200 files (1.9 MiB); no conflicts.", "200 items transferred and verified",
		"\x1b[38;5;71m✓ done"} {
		if !strings.Contains(string(out), want) {
			t.Errorf("it lacks %q:\n%s", want, out)
		}
	}
	command = exec.Command("script", "-qec", "NO_COLOR=1 "+program+" ls /archive/desk", "/dev/null")
	command.Env = append(os.Environ(), "HERON_URL=http://"+h.listen, "HERON_TOKEN="+h.token(), "TERM=xterm-256color")
	if out, err := command.CombinedOutput(); err != nil || strings.Contains(string(out), "\x1b[") {
		t.Errorf("NO_COLOR is not obeyed: %v\n%s", err, out)
	}
}

// TestTLS serves with TLS, and signs in over it.
func TestTLS(t *testing.T) {
	dir := t.TempDir()
	certificate, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	goroot, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		t.Fatal(err)
	}
	make := exec.Command("go", "run", filepath.Join(strings.TrimSpace(string(goroot)), "src", "crypto", "tls", "generate_cert.go"), "--host",
		"127.0.0.1",
		"--ecdsa-curve", "P256")
	make.Dir = dir
	if out, err := make.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	h := &heron{t: t, data: filepath.Join(dir, "data"), listen: servertest.FreeAddress(t)}
	h.serve("--tls-cert", certificate, "--tls-key", key)
	command := exec.Command(program, "whoami", "--service", "https://"+h.listen)
	command.Env = append(os.Environ(), "HERON_TOKEN="+h.token(), "SSL_CERT_FILE="+certificate)
	if out, err := command.CombinedOutput(); err != nil || !strings.Contains(string(out), "owner at https://") {
		t.Errorf("%v: %s", err, out)
	}
	pem, err := os.ReadFile(certificate)
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(pem)
	secure := &client.Client{URL: "https://" + h.listen, Token: h.token(),
		HTTP: &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}}}
	link, err := secure.SigninLink(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	_, token, _ := strings.Cut(link.URL, "#")
	answer, err := secure.HTTP.Post("https://"+h.listen+"/api/v1/session", "application/json", strings.NewReader(`{"token":"`+token+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	answer.Body.Close()
	if got := answer.Header.Get("Strict-Transport-Security"); !strings.Contains(got, "max-age=") {
		t.Errorf("over TLS: Strict-Transport-Security: %q", got)
	}
	if cookies := answer.Cookies(); len(cookies) != 1 || !strings.HasPrefix(cookies[0].Name, "__Host-") || !cookies[0].Secure ||
		!cookies[0].HttpOnly || cookies[0].Path != "/" || cookies[0].Domain != "" {
		t.Errorf("the cookie over TLS: %v", cookies)
	}
	plain := h.run("", "whoami")
	if plain.code == 0 {
		t.Error("it answers without TLS")
	}
}
