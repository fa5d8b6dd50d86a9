package e2e

import (
	"fmt"
	"maps"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"text/tabwriter"

	"deftheron/client"
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
	h.link(vsftpd.Password, "ftp", "ftps", "--host", vsftpd.Host, "--port", vsftpd.Port, "--user", vsftpd.User, "--path", path,
		"--certificate", vsftpd.Certificate)
	samba := servertest.StartSamba(t, servertest.SambaOptions{})
	path, _ = samba.Folder(t)
	h.link(samba.Password, "smb", "samba", "--host", samba.Host, "--port", samba.Port, "--user", samba.User, "--share", samba.Share, "--path",
		path)
	c := clouds(t)
	h.agree(contract.Consenting{Link: contract.Link{Provider: "sedge", Name: "sedge",
		Options: map[string]string{"url": c.SedgeURL, "client-id": "own"}, Secret: "own-secret"}}, sedgeUser)
	h.agree(contract.Consenting{Link: contract.Link{Provider: "alder", Name: "alder", Options: map[string]string{"url": c.AlderURL}}},
		alderUser)
	return []string{"folder", "apache", "x-net", "versitygw", "openssh", "ftp", "ftps", "samba", "sedge", "alder"}
}

// crossing is one copy from a place to another.
type crossing struct {
	from, to string
	done     int
	refused  int
	// translated are those of the done that have another name there.
	translated int
	wrong      []string
}

// crossings is a service, and the folder from which everything comes.
type crossings struct {
	*heron
	seed string
}

// TestAnyToAny copies the awkward tree from every kind of place to two others (with
// -everywhere to every other), and compares each file that arrived byte for byte. What a
// target cannot hold ends as an item that says so.
func TestAnyToAny(t *testing.T) {
	t.Parallel()
	h := start(t)
	names := append(linkServers(t, h), "premises")
	h.worker("gauge-house", "premises", nil)
	loggers := servertest.StartOpenSSH(t)
	h.link(loggers.Password, "sftp", "premises", "--at", "premises", "--host", loggers.Host, "--port", loggers.Port, "--user", loggers.User,
		"--path", loggers.Folder(t))
	seed := t.TempDir()
	awkward(t, filepath.Join(seed, "tree"))
	h.linkFolder("seed", seed)
	x := crossings{heron: h, seed: seed}
	want := map[string]map[string]string{} // by place, what it holds
	for _, name := range names {
		one := x.crossing(t, "seed", name, digest(t, filepath.Join(seed, "tree")))
		if len(one.wrong) > 0 {
			t.Fatalf("seed to %s: %s", name, strings.Join(one.wrong, "; "))
		}
		want[name], _ = x.home(t, "/"+name+"/from-seed/tree")
	}
	var mu sync.Mutex
	all := map[string]crossing{}
	var group sync.WaitGroup
	lanes := make(chan struct{}, 3)
	for i, from := range names {
		for j, to := range names {
			if from == to || !*everywhere && (j-i+len(names))%len(names) > 2 {
				continue
			}
			group.Go(func() {
				lanes <- struct{}{}
				defer func() { <-lanes }()
				one := x.crossing(t, from, to, want[from])
				mu.Lock()
				defer mu.Unlock()
				all[from+" "+to] = one
			})
		}
	}
	group.Wait()
	t.Log("files that arrived byte for byte (of them with a translated name) + those that the target cannot hold\n" + matrix(names, all))
	for _, key := range slices.Sorted(maps.Keys(all)) {
		for _, wrong := range all[key].wrong {
			t.Errorf("%s: %s", key, wrong)
		}
	}
}

// crossing copies the tree of a place to another, and holds what is there to what
// was to come.
func (h crossings) crossing(t *testing.T, from, to string, want map[string]string) (one crossing) {
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
	for item, err := range h.client().Items(t.Context(), lastRun(r.out), client.ItemFilter{State: "failed"}) {
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
	got, translated := h.home(t, target+"/tree")
	one.translated = translated
	lost := 0
	for name, sum := range want {
		found, there := got[name]
		switch {
		case there && found == sum:
			one.done++
		case there:
			one.wrong = append(one.wrong, fmt.Sprintf("%q has other bytes", name))
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

// home copies what is at an address to a folder of this machine, its names as they
// were before they were translated, and says how many had been.
func (h crossings) home(t *testing.T, address string) (files map[string]string, translated int) {
	t.Helper()
	folder := strings.ReplaceAll(strings.Trim(address, "/"), "/", "-")
	r := h.run("", "copy", "--json", address, "/seed/home/"+folder)
	if r.code != 0 {
		t.Errorf("home from %s: %s%s", address, r.out, r.err)
		return nil, 0
	}
	for item, err := range h.client().Items(t.Context(), lastRun(r.out), client.ItemFilter{State: "done"}) {
		if err != nil {
			t.Error(err)
		}
		if item.Cause == "name-translated" {
			translated++
		}
	}
	return digest(t, filepath.Join(h.seed, "home", folder, filepath.Base(address))), translated
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
			default:
				cell := fmt.Sprint(one.done)
				if one.translated > 0 {
					cell += fmt.Sprintf(" (%d)", one.translated)
				}
				if one.refused > 0 {
					cell += fmt.Sprintf(" + %d", one.refused)
				}
				fmt.Fprint(w, "\t"+cell)
			}
		}
		fmt.Fprintln(w)
	}
	w.Flush()
	return b.String()
}
