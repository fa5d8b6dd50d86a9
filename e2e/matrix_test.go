package e2e

import (
	"fmt"
	"maps"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"text/tabwriter"

	"deftheron/contract"
	"deftheron/servertest"
	"deftheron/standin"
)

// link links an account by a command that is given its secret.
func (h *heron) link(secret string, args ...string) {
	h.t.Helper()
	if secret != "" {
		args = append(args, "--secret-file", "-")
	}
	if r := h.run(secret, append([]string{"account", "link"}, args...)...); r.code != 0 {
		h.t.Fatalf("link %v: exit %d\n%s%s", args, r.code, r.out, r.err)
	}
}

// linkServers starts every kind of server there is, and links an account at each.
func linkServers(t *testing.T, h *heron) (names []string) {
	t.Helper()
	h.linkFolder("folder", t.TempDir())
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	url, _ := apache.Folder(t)
	h.linkApache("apache", apache, url)
	dav := httptest.NewServer(standin.WebDAV(t.TempDir(), "", ""))
	t.Cleanup(dav.Close)
	h.must("account", "link", "webdav", "x-net", "--url", dav.URL)
	objects := servertest.StartObjectStore(t)
	h.linkBucket("versitygw", objects, objects.Bucket(t))
	shell := servertest.StartOpenSSH(t)
	h.link(shell.Password, "sftp", "openssh", "--host", shell.Host, "--port", shell.Port, "--user", shell.User, "--path", shell.Folder(t))
	pure := servertest.StartPureFTPd(t, servertest.FTPOptions{})
	path, _ := pure.Folder(t)
	h.link(pure.Password, "ftp", "ftp", "--host", pure.Host, "--port", pure.Port, "--user", pure.User, "--path", path, "--tls", "none")
	vsftpd := servertest.StartVsftpd(t, servertest.FTPOptions{TLS: "explicit"})
	path, _ = vsftpd.Folder(t)
	h.link(vsftpd.Password, "ftp", "ftps", "--host", vsftpd.Host, "--port", vsftpd.Port, "--user", vsftpd.User, "--path", path, "--certificate", vsftpd.Certificate)
	samba := servertest.StartSamba(t, servertest.SambaOptions{})
	path, _ = samba.Folder(t)
	h.link(samba.Password, "smb", "samba", "--host", samba.Host, "--port", samba.Port, "--user", samba.User, "--share", samba.Share, "--path", path)
	c := clouds(t)
	h.agree(contract.Consenting{Link: contract.Link{Provider: "sedge", Name: "sedge", Options: map[string]string{"url": c.SedgeURL, "client-id": "own"}, Secret: "own-secret"}}, sedgeUser)
	h.agree(contract.Consenting{Link: contract.Link{Provider: "alder", Name: "alder", Options: map[string]string{"url": c.AlderURL}}}, alderUser)
	return []string{"folder", "apache", "x-net", "versitygw", "openssh", "ftp", "ftps", "samba", "sedge", "alder"}
}

// crossing is one copy from a place to another.
type crossing struct {
	from, to string
	done     int
	refused  int
	wrong    []string
}

// TestAnyToAny copies the awkward tree from every kind of place to every other, and
// compares each file that arrived byte for byte. What a target cannot hold ends as
// an item that says so.
func TestAnyToAny(t *testing.T) {
	t.Parallel()
	h := start(t)
	names := linkServers(t, h)
	seed := t.TempDir()
	awkward(t, filepath.Join(seed, "tree"))
	h.linkFolder("seed", seed)
	want := map[string]map[string]string{} // by place, what it holds
	for _, name := range names {
		one := h.crossing(t, "seed", name, digest(t, filepath.Join(seed, "tree")))
		if len(one.wrong) > 0 {
			t.Fatalf("seed to %s: %s", name, strings.Join(one.wrong, "; "))
		}
		want[name] = h.fetched(t, "/"+name+"/from-seed/tree")
	}
	var mu sync.Mutex
	crossings := map[string]crossing{}
	var group sync.WaitGroup
	lanes := make(chan struct{}, 3)
	for _, from := range names {
		for _, to := range names {
			if from == to {
				continue
			}
			group.Go(func() {
				lanes <- struct{}{}
				defer func() { <-lanes }()
				one := h.crossing(t, from, to, want[from])
				mu.Lock()
				defer mu.Unlock()
				crossings[from+" "+to] = one
			})
		}
	}
	group.Wait()
	t.Log("files that arrived byte for byte, + those that the target cannot hold\n" + matrix(names, crossings))
	for _, key := range slices.Sorted(maps.Keys(crossings)) {
		for _, wrong := range crossings[key].wrong {
			t.Errorf("%s: %s", key, wrong)
		}
	}
}

// crossing copies the tree of a place to another, and holds what is there to what
// was to come.
func (h *heron) crossing(t *testing.T, from, to string, want map[string]string) (one crossing) {
	one = crossing{from: from, to: to}
	source := "/" + from + "/tree"
	if from != "seed" {
		source = "/" + from + "/from-seed/tree"
	}
	target := "/" + to + "/from-" + from
	r := h.run("", "copy", "--json", source, target)
	if r.code != 0 && r.code != 1 {
		one.wrong = append(one.wrong, fmt.Sprintf("the copy ended with %d: %s", r.code, r.err))
		return one
	}
	refused := map[string]string{}
	for item, err := range h.client().Items(t.Context(), lastRun(r.out), "failed") {
		if err != nil {
			one.wrong = append(one.wrong, err.Error())
			return one
		}
		if item.Cause != "name-refused" && item.Cause != "in-the-way" || item.Remedy == "" {
			one.wrong = append(one.wrong, fmt.Sprintf("%s failed with %s: %s", item.Address, item.Cause, item.Why))
		}
		refused[item.Address] = item.Cause
	}
	one.refused = len(refused)
	got := h.fetched(t, target+"/tree")
	lost := 0
	beside := map[string]string{} // kept both, where letter case does not tell names apart
	for name, sum := range got {
		if _, wanted := want[name]; !wanted && strings.Contains(name, " (from ") {
			beside[sum] = name
		}
	}
	for name, sum := range want {
		found, there := got[name]
		switch {
		case there && found == sum:
			one.done++
		case there:
			one.wrong = append(one.wrong, fmt.Sprintf("%q has other bytes", name))
		case beside[sum] != "":
			one.done++
			delete(beside, sum)
		default:
			lost++
		}
	}
	if lost > one.refused {
		one.wrong = append(one.wrong, fmt.Sprintf("%d of %d are not there, and %d items say why", lost, len(want), one.refused))
	}
	if len(got) != one.done {
		one.wrong = append(one.wrong, fmt.Sprintf("%d are there, of which %d were wanted", len(got), one.done))
	}
	return one
}

// lastRun is the id of the run that a copy printed.
func lastRun(out string) string {
	_, rest, _ := strings.Cut(out, `"id":`)
	return strings.Trim(strings.TrimSpace(strings.SplitN(rest, ",", 2)[0]), `"`)
}

// fetched is what is at an address, fetched to this machine.
func (h *heron) fetched(t *testing.T, address string) map[string]string {
	t.Helper()
	to, err := os.MkdirTemp(t.TempDir(), "fetched-")
	if err != nil {
		t.Error(err)
		return nil
	}
	if r := h.run("", "get", address, to); r.code != 0 {
		t.Errorf("get %s: %s%s", address, r.out, r.err)
	}
	return digest(t, filepath.Join(to, filepath.Base(address)))
}

func matrix(names []string, crossings map[string]crossing) string {
	var b strings.Builder
	w := tabwriter.NewWriter(&b, 0, 0, 2, ' ', 0)
	fmt.Fprintf(w, "from, to\t%s\n", strings.Join(names, "\t"))
	for _, from := range names {
		fmt.Fprintf(w, "%s", from)
		for _, to := range names {
			one, ok := crossings[from+" "+to]
			switch {
			case !ok:
				fmt.Fprint(w, "\t-")
			case len(one.wrong) > 0:
				fmt.Fprint(w, "\tWRONG")
			case one.refused > 0:
				fmt.Fprintf(w, "\t%d + %d", one.done, one.refused)
			default:
				fmt.Fprintf(w, "\t%d", one.done)
			}
		}
		fmt.Fprintln(w)
	}
	w.Flush()
	return b.String()
}
