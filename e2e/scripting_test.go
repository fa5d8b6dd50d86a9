package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/contract"
)

// TestScript runs the script of docs/scripting.md with a run that is done, one that fails, one
// that is held, and job files and names that are wrong.
func TestScript(t *testing.T) {
	t.Parallel()
	script, err := os.ReadFile("../docs/scripts/nightly.sh")
	if err != nil {
		t.Fatal(err)
	}
	if page, err := os.ReadFile("../docs/scripting.md"); err != nil || !strings.Contains(string(page), "```sh\n"+string(script)+"```") {
		t.Errorf("docs/scripting.md does not show the script as it is (%v)", err)
	}
	h := start(t)
	from, to, kept := t.TempDir(), t.TempDir(), t.TempDir()
	writeFile(t, "level 12", from, "a.csv")
	writeFile(t, "level 13", from, "b.csv")
	h.linkFolder("gauges", from)
	h.linkFolder("archive", to)
	file := filepath.Join(kept, "job.yaml")
	writeFile(t, "job: nightly\ntype: mirror\nroutes:\n  - {from: /gauges, to: /archive/gauges}\nsafety: {deletions: 0}\n", file)
	nightly := func(token, job string) result {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		command := exec.CommandContext(ctx, "sh", "../docs/scripts/nightly.sh", file, job, kept)
		command.Env = append(os.Environ(), "HERON_URL=http://"+h.listen, "HERON_TOKEN="+token,
			"PATH="+filepath.Dir(program)+string(os.PathListSeparator)+os.Getenv("PATH"))
		var out, errs strings.Builder
		command.Stdout, command.Stderr = &out, &errs
		if err := command.Run(); err != nil && command.ProcessState == nil {
			t.Fatal(err)
		}
		return result{out.String(), errs.String(), command.ProcessState.ExitCode()}
	}
	token := h.madeToken("read", "jobs")
	for _, step := range []struct {
		name    string
		token   string
		job     string
		prepare func()
		code    int
		err     string // what standard error has to say
		reports int    // that are kept by then
	}{
		{"done", token, "nightly", func() {}, 0, "", 1},
		{"held", token, "nightly", func() { remove(t, filepath.Join(from, "a.csv")) }, 3, "held: ", 2},
		{"no such job", token, "nightli", func() {}, 1, "nightli", 2},
		{"not allowed", h.madeToken("read"), "nightly", func() {}, 1, "scope", 2},
	} {
		step.prepare()
		r := nightly(step.token, step.job)
		if r.code != step.code || !strings.Contains(r.err, step.err) || step.err == "" && r.err != "" {
			t.Errorf("%s: exit %d, want %d and %q:\n%s%s", step.name, r.code, step.code, step.err, r.out, r.err)
		}
		if reports, _ := filepath.Glob(filepath.Join(kept, "*.html")); len(reports) != step.reports {
			t.Errorf("%s: %d reports, want %d", step.name, len(reports), step.reports)
		}
	}
}

func remove(t *testing.T, name string) {
	t.Helper()
	if err := os.Remove(name); err != nil {
		t.Fatal(err)
	}
}

// madeToken is a token of the owner's with some scopes.
func (h *heron) madeToken(scopes ...string) string {
	h.t.Helper()
	args := []string{"token", "create", strings.Join(scopes, " "), "--json"}
	for _, scope := range scopes {
		args = append(args, "--scope", scope)
	}
	var made contract.MadeToken
	if err := json.Unmarshal([]byte(h.must(args...)), &made); err != nil || made.Secret == "" {
		h.t.Fatalf("%v: no token", err)
	}
	return made.Secret
}

// TestLogNamesRequests follows a request with a trace from its answer through the log to the run
// that it started.
func TestLogNamesRequests(t *testing.T) {
	t.Parallel()
	h := start(t, "--log-format", "json", "--log-level", "debug")
	from := t.TempDir()
	writeFile(t, "level 12", from, "a.csv")
	h.linkFolder("gauges", from)
	h.linkFolder("archive", t.TempDir())
	h.must("job", "create", "nightly", "--from", "/gauges", "--to", "/archive/gauges")
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, "http://"+h.listen+"/api/v1/jobs/nightly/start",
		strings.NewReader("{}"))
	if err != nil {
		t.Fatal(err)
	}
	const trace, parent = "4bf92f3577b34da6a3ce929d0e0e4736", "00f067aa0ba902b7"
	request.Header.Set("Authorization", "Bearer "+h.token())
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("traceparent", "00-"+trace+"-"+parent+"-01")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var started contract.Started
	if err := json.NewDecoder(response.Body).Decode(&started); err != nil || started.Run == "" {
		t.Fatalf("%s, %v", response.Status, err)
	}
	id := response.Header.Get("X-Request-Id")
	if len(id) != 10 {
		t.Fatalf("the request is called %q", id)
	}
	h.must("run", "follow", started.Run)
	var queued, done, answered bool
	for lines := bufio.NewScanner(strings.NewReader(h.log.String())); lines.Scan(); {
		var line struct{ Msg, Run, State, Request, Trace, Parent, Path string }
		if err := json.Unmarshal(lines.Bytes(), &line); err != nil {
			t.Errorf("%q: %v", lines.Text(), err)
		}
		ours := line.Request == id && line.Trace == trace && line.Parent == parent
		queued = queued || ours && line.Run == started.Run && line.State == "queued"
		answered = answered || ours && line.Msg == "request" && line.Path == request.URL.Path
		done = done || line.Run == started.Run && line.State == "done"
	}
	if !queued || !done || !answered {
		t.Errorf("queued %v, done %v, answered %v in:\n%s", queued, done, answered, h.log)
	}
}
