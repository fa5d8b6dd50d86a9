// Package e2e drives the built program as its users do: the service through its
// commands and its network interface, the console in a browser, the protocols
// against real servers.
package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/demo"
	"deftheron/servertest"
)

var program string

// buildFlags are those that the program is built with.
var buildFlags []string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "heron-e2e-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		program = filepath.Join(dir, "heron")
		build := exec.Command("go", slices.Concat([]string{"build"}, buildFlags, []string{"-o", program, "./cmd/heron"})...)
		build.Dir = servertest.Root()
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
			return 1
		}
		defer shared.end()
		return m.Run()
	}())
}

// ends is what has to be done once all tests have ended.
type ends struct {
	mu  sync.Mutex
	all []func()
}

// shared is what tests have in common.
var shared ends

func (e *ends) add(end func()) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.all = append(e.all, end)
}

func (e *ends) end() {
	for _, end := range slices.Backward(e.all) {
		end()
	}
}

// generated is the demo's data, which is made once.
var generated = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "heron-demo-data-")
	if err == nil {
		shared.add(func() { os.RemoveAll(dir) })
		_, err = demo.Generate(dir, demo.Seed)
	}
	return dir, err
})

// demoData writes the demo's data below a folder.
func demoData(t *testing.T, folder string) {
	t.Helper()
	made, err := generated()
	if err == nil {
		err = os.MkdirAll(folder, 0o755)
	}
	if err == nil {
		err = exec.Command("cp", "-a", made+"/.", folder).Run()
	}
	if err != nil {
		t.Fatal(err)
	}
}

// heron is a running service and its data folder.
type heron struct {
	t      *testing.T
	data   string
	listen string
	signin string // a one-time link
	log    *logged
	cmd    *exec.Cmd
	env    []string
	// asToken is what requests sign in with; empty for the owner's token.
	asToken string
}

// logged is what a process has logged so far.
type logged struct {
	mu     sync.Mutex
	buffer bytes.Buffer
}

func (l *logged) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buffer.Write(p)
}

func (l *logged) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buffer.String()
}

// start starts a service on a new data folder and a free port.
func start(t *testing.T, args ...string) *heron {
	t.Helper()
	h := &heron{t: t, data: filepath.Join(t.TempDir(), "data"), listen: servertest.FreeAddress(t)}
	h.serve(args...)
	return h
}

// serve starts the process, and waits until it answers.
func (h *heron) serve(args ...string) {
	h.t.Helper()
	h.log = &logged{}
	h.cmd = exec.Command(program, append([]string{"serve", "--data", h.data, "--listen", h.listen, "--search-sweep", "0"}, args...)...)
	h.cmd.Env = append(os.Environ(), h.env...)
	h.cmd.Stderr = h.log
	out, err := h.cmd.StdoutPipe()
	if err != nil {
		h.t.Fatal(err)
	}
	servertest.Start(h.t, h.cmd)
	var printed strings.Builder
	buffer := make([]byte, 4096)
	for !strings.Contains(printed.String(), "Commands:") {
		n, err := out.Read(buffer)
		printed.Write(buffer[:n])
		if err != nil {
			h.t.Fatalf("the service ended: %s%s", printed.String(), h.log)
		}
	}
	go io.Copy(io.Discard, out)
	if strings.Contains(printed.String(), "/signin#") {
		h.t.Errorf("a one-time link was printed where no terminal is: %s", printed.String())
	}
	servertest.WaitFor(h.t, h.listen)
	if !slices.Contains(args, "--tls-cert") {
		h.newLink()
	}
}

// of is the service as a subtest drives it, which then ends itself where it fails, and not the test
// that it is part of.
func (h *heron) of(t *testing.T) *heron {
	own := *h
	own.t = t
	return &own
}

// newLink makes a link that signs the owner in once.
func (h *heron) newLink() {
	h.t.Helper()
	link, err := h.client().SigninLink(h.t.Context())
	if err != nil {
		h.t.Fatal(err)
	}
	_, token, _ := strings.Cut(link.URL, "#")
	h.signin = "http://" + h.listen + "/signin#" + token
}

// end ends the process as told, and waits for it.
func (h *heron) end(signal syscall.Signal) {
	h.t.Helper()
	if err := h.cmd.Process.Signal(signal); err != nil {
		h.t.Fatal(err)
	}
	_ = h.cmd.Wait()
}

func (h *heron) token() string {
	if h.asToken != "" {
		return h.asToken
	}
	data, err := os.ReadFile(filepath.Join(h.data, "owner.token"))
	if err != nil {
		h.t.Fatal(err)
	}
	return strings.TrimSpace(string(data))
}

func (h *heron) client() *client.Client {
	return &client.Client{URL: "http://" + h.listen, Token: h.token()}
}

// result is what a command printed, and its exit code.
type result struct {
	out, err string
	code     int
}

// run runs a command against the service.
func (h *heron) run(input string, args ...string) result {
	h.t.Helper()
	return h.runAs(h.token(), input, args...)
}

// runAs runs a command with a token.
func (h *heron) runAs(token, input string, args ...string) result {
	h.t.Helper()
	ctx, cancel := context.WithTimeout(h.t.Context(), 3*time.Minute)
	defer cancel()
	command := exec.CommandContext(ctx, program, args...)
	command.Env = append(os.Environ(), "HERON_URL=http://"+h.listen, "HERON_TOKEN="+token, "XDG_CONFIG_HOME="+h.data+"/config")
	command.Stdin = strings.NewReader(input)
	var out, errs bytes.Buffer
	command.Stdout, command.Stderr = &out, &errs
	err := command.Run()
	if err != nil && command.ProcessState == nil {
		h.t.Fatalf("heron %v: %v", args, err)
	}
	if strings.Contains(errs.String(), "No service answers") {
		h.t.Logf("heron %v: %s%s", args, &errs, h.ending())
	}
	return result{out.String(), errs.String(), command.ProcessState.ExitCode()}
}

// ending says whether the process of the service ended, and how, and what it logged last.
func (h *heron) ending() string {
	how := "it runs"
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", h.cmd.Process.Pid))
	if fields := strings.Fields(string(stat)); err != nil {
		how = err.Error()
	} else if fields[2] == "Z" {
		status, _ := strconv.Atoi(fields[len(fields)-1])
		how = fmt.Sprintf("it ended: exit %d, signal %d", syscall.WaitStatus(status).ExitStatus(), status&0x7f)
	}
	lines := strings.SplitAfter(h.log.String(), "\n")
	return fmt.Sprintf("The service: %s. Its log ends so:\n%s", how, strings.Join(lines[max(0, len(lines)-40):], ""))
}

// must runs a command that has to succeed.
func (h *heron) must(args ...string) string {
	h.t.Helper()
	r := h.run("", args...)
	if r.code != 0 {
		h.t.Fatalf("heron %s: exit %d\n%s%s", strings.Join(args, " "), r.code, r.out, r.err)
	}
	return r.out
}

// linkFolder links a folder, and linkBucket a bucket, under a name.
func (h *heron) linkFolder(name, path string) {
	h.t.Helper()
	h.must("account", "link", "folder", name, "--path", path)
}

func (h *heron) linkBucket(name string, server *servertest.ObjectStore, bucket string, options ...string) {
	h.t.Helper()
	args := append([]string{
		"account", "link", "s3", name, "--endpoint", server.Endpoint, "--bucket", bucket, "--key", server.Key, "--secret-file", "-",
	}, options...)
	if r := h.run(server.Secret+"\n", args...); r.code != 0 {
		h.t.Fatalf("link %s: exit %d\n%s%s", name, r.code, r.out, r.err)
	}
}

// copy copies and returns the run as it ended.
func (h *heron) copy(args ...string) contract.Run {
	h.t.Helper()
	var run contract.Run
	out := h.must(append([]string{"copy", "--json"}, args...)...)
	if err := json.Unmarshal([]byte(out), &run); err != nil {
		h.t.Fatalf("%v: %s", err, out)
	}
	return run
}

// digest is every file below a folder by its path, with the hash of its content;
// a folder that holds nothing is there with a closing slash.
func digest(t *testing.T, root string) map[string]string {
	t.Helper()
	files := map[string]string{}
	err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, _ := filepath.Rel(root, path)
		if entry.IsDir() {
			if children, err := os.ReadDir(path); err == nil && len(children) == 0 {
				files[name+"/"] = ""
			}
			return nil
		}
		file, err := os.Open(path)
		if err != nil {
			return err
		}
		defer file.Close()
		sum := sha256.New()
		if _, err := io.Copy(sum, file); err != nil {
			return err
		}
		files[name] = fmt.Sprintf("%x", sum.Sum(nil))
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return files
}

// same compares two trees, and says how they differ.
func same(t *testing.T, what string, got, want map[string]string) {
	t.Helper()
	for name, sum := range want {
		if found, there := got[name]; !there {
			t.Errorf("%s: %q is missing", what, name)
		} else if found != sum {
			t.Errorf("%s: %q has other bytes", what, name)
		}
	}
	for name := range got {
		if _, there := want[name]; !there {
			t.Errorf("%s: %q is there, and nobody wrote it", what, name)
		}
	}
}

func writeFile(t *testing.T, data string, steps ...string) {
	t.Helper()
	path := filepath.Join(steps...)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(data), 0o644); err != nil {
		t.Fatal(err)
	}
}
