package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/servertest"
	"deftheron/standin"
)

// davServer is a WebDAV server with what lies on its disk, behind something that
// slows it down and injects faults.
type davServer struct {
	url, path      string
	user, password string

	mu     sync.Mutex
	wait   time.Duration // before each file that is sent
	faults int           // of a hundred requests
	// flips has bits of what is read flipped, too. No protocol beneath tells the
	// hash of what is read from there: only what was sent there can be verified.
	flips  bool
	random *rand.Rand
	hit    map[string]int
}

func (d *davServer) set(wait time.Duration, faults int, flips bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.wait, d.faults, d.flips = wait, faults, flips
}

// fault draws whether, and how, a request fails.
func (d *davServer) fault() (kind string, wait time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.random.IntN(100) >= d.faults {
		return "", d.wait
	}
	kinds := []string{"500", "reset", "lost", "truncated", "502", "reset", "lost", "truncated"}
	if d.random.IntN(12) == 0 { // seldom: what is asked to slow down does so, for long
		kinds = []string{"503", "429"}
	}
	if d.flips {
		kinds = append(kinds, "flipped", "flipped")
	}
	kind = kinds[d.random.IntN(len(kinds))]
	d.hit[kind]++
	return kind, d.wait
}

func (d *davServer) front(t *testing.T, behind http.Handler) *httptest.Server {
	front := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kind, wait := d.fault()
		if r.Method == http.MethodPut && wait > 0 {
			select {
			case <-time.After(wait):
			case <-r.Context().Done():
			}
		}
		switch kind {
		case "500", "502", "503", "429":
			var status int
			fmt.Sscan(kind, &status)
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(status)
		case "reset":
			panic(http.ErrAbortHandler)
		case "lost":
			behind.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		case "truncated", "flipped":
			if r.Method != http.MethodGet {
				behind.ServeHTTP(w, r)
				return
			}
			damaged(w, r, behind, kind)
		default:
			behind.ServeHTTP(w, r)
		}
	}))
	front.Config.ErrorLog = nil
	front.Start()
	t.Cleanup(front.Close)
	return front
}

// damaged answers with half of a body, or with one bit of it flipped.
func damaged(w http.ResponseWriter, r *http.Request, behind http.Handler, kind string) {
	recorder := httptest.NewRecorder()
	behind.ServeHTTP(recorder, r)
	for name, values := range recorder.Header() {
		w.Header()[name] = values
	}
	body := recorder.Body.Bytes()
	w.Header().Set("Content-Length", fmt.Sprint(len(body)))
	w.WriteHeader(recorder.Code)
	if kind == "flipped" && len(body) > 0 {
		body[len(body)/2] ^= 1
		w.Write(body)
		return
	}
	w.Write(body[:len(body)/2])
	panic(http.ErrAbortHandler)
}

// davServers starts the two kinds, by name.
func davServers(t *testing.T) map[string]*davServer {
	t.Helper()
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	place, path := apache.Folder(t)
	target, _ := url.Parse(place)
	one := &davServer{path: path, user: apache.User, password: apache.Password, random: rand.New(rand.NewPCG(3, 7)), hit: map[string]int{}}
	one.url = one.front(t, servertest.Forward(t, place)).URL + target.Path
	two := &davServer{path: t.TempDir(), user: "u", password: "p", random: rand.New(rand.NewPCG(4, 7)), hit: map[string]int{}}
	two.url = two.front(t, standin.WebDAV(two.path, two.user, two.password)).URL
	return map[string]*davServer{"Apache": one, "x-net": two}
}

func (h *heron) linkDav(name string, server *davServer) {
	h.t.Helper()
	if r := h.run(server.password, "account", "link", "webdav", name, "--url", server.url, "--user", server.user, "--secret-file",
		"-"); r.code != 0 {
		h.t.Fatalf("link %s: %s%s", name, r.out, r.err)
	}
}

// davSource makes 300 files, some of them too large for one direct request.
func davSource(t *testing.T) (folder string, want map[string]string) {
	t.Helper()
	folder = t.TempDir()
	for i := range 300 {
		size := 2000 + i
		if i%20 == 0 {
			size = 400_000
		}
		writeFile(t, strings.Repeat(fmt.Sprintf("%08d", i), size/8+1)[:size], folder, "all", fmt.Sprintf("sub %d", i%7),
			fmt.Sprintf("file %03d é.txt", i))
	}
	return folder, digest(t, filepath.Join(folder, "all"))
}

// TestDavFaults copies to each WebDAV server and back while requests fail in
// all ways: whatever the run says is done is there, byte for byte.
func TestDavFaults(t *testing.T) {
	t.Parallel()
	for name, server := range davServers(t) {
		t.Run(name, func(t *testing.T) {
			h := start(t)
			desk, want := davSource(t)
			back := t.TempDir()
			h.linkFolder("desk", desk)
			h.linkFolder("back", back)
			h.linkDav("share", server)
			for _, leg := range [][2]string{{"/desk/all", "/share"}, {"/share/all", "/back"}} {
				server.set(0, 5, leg[1] == "/share")
				var run contract.Run
				r := h.run("", "copy", leg[0], leg[1], "--json")
				if err := json.Unmarshal([]byte(r.out), &run); err != nil {
					// The listing itself may have failed too often.
					t.Logf("%s: %s", leg[0], r.err)
				}
				server.set(0, 0, false)
				for tries := 0; run.State != "done" && tries < 3; tries++ {
					if run.ID == "" {
						run = h.copy(leg[0], leg[1])
						continue
					}
					t.Logf("%s to %s: %s, %d failed (%s); retried", leg[0], leg[1], run.State, run.Items.Failed, run.Why)
					if err := json.Unmarshal([]byte(h.run("", "run", "retry", run.ID, "--json").out), &run); err != nil {
						t.Fatal(err)
					}
				}
				if run.State != "done" || run.Items.Failed != 0 {
					t.Fatalf("%s to %s: %+v", leg[0], leg[1], run)
				}
			}
			same(t, "the share", digest(t, filepath.Join(server.path, "all")), want)
			same(t, "back", digest(t, filepath.Join(back, "all")), want)
			if len(server.hit) < 5 {
				t.Errorf("faults were %v; want more kinds of them", server.hit)
			}
			t.Logf("faults: %v", server.hit)
		})
	}
}

// TestDavKilled kills the service while it writes to each WebDAV server: no part
// of a file is ever seen under its name, and nothing of ours is left.
func TestDavKilled(t *testing.T) {
	t.Parallel()
	for name, server := range davServers(t) {
		t.Run(name, func(t *testing.T) {
			h := start(t)
			desk, want := davSource(t)
			h.linkFolder("desk", desk)
			h.linkDav("share", server)
			server.set(40*time.Millisecond, 0, false)
			var started contract.Started
			if err := json.Unmarshal([]byte(h.must("copy", "/desk/all", "/share", "--detach", "--json")), &started); err != nil {
				t.Fatal(err)
			}
			kills := 0
			for range 3 {
				waitForItems(t, h, started.Run, kills*60+30)
				if run, err := h.client().Run(t.Context(), started.Run); err != nil || run.State.Ended() {
					break
				}
				h.end(syscall.SIGKILL)
				kills++
				wholeOrNothing(t, filepath.Join(server.path, "all"), want)
				h.serve()
			}
			if kills < 2 {
				t.Fatalf("the run ended after %d kills; the test needs some", kills)
			}
			server.set(0, 0, false)
			run, err := h.client().Follow(t.Context(), started.Run, func(contract.Run) {}, nil)
			if err != nil || run.State != "done" || run.Items.Done != int64(len(want)) {
				t.Fatalf("after %d kills: %+v, %v", kills, run, err)
			}
			same(t, "the share", digest(t, filepath.Join(server.path, "all")), want)
			entries, _ := os.ReadDir(server.path)
			for _, entry := range entries {
				if strings.HasPrefix(entry.Name(), ".heron") {
					t.Errorf("%s is left", entry.Name())
				}
			}
		})
	}
}
