package bench

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
	"deftheron/core/store/storetest"
	"deftheron/servertest"
)

// TestSoakRandomKills copies random trees of 10,000 files, awkward names and all, from
// an OpenSSH server to an object store and to Apache at once, over connections that
// break, and kills the service at random moments, at least 200 times. A mirror and a
// two-way job go beside, over trees that somebody works in. After each
// round every content is compared, and nothing of ours may be left.
func TestSoakRandomKills(t *testing.T) {
	if !*soak {
		t.Skip("only with -soak, as make soak does")
	}
	killed(t, build(t).heron, killing{files: 10_000 * *scale / 100, kills: 200 * *scale / 100, within: 50 * time.Minute})
}

// TestKills is the short form, which make test runs.
func TestKills(t *testing.T) {
	t.Parallel()
	if *run || *soak {
		t.Skip("its long form is run")
	}
	if testing.Short() {
		t.Skip("it builds the program")
	}
	path := filepath.Join(t.TempDir(), "heron")
	command := exec.Command("go", "build", "-o", path, "./cmd/heron")
	command.Dir = servertest.Root()
	if text, err := command.CombinedOutput(); err != nil {
		t.Fatalf("build: %v\n%s", err, text)
	}
	killed(t, path, killing{files: 120, kills: 5, within: 5 * time.Minute})
}

type killing struct {
	files, kills int
	within       time.Duration
}

// tree is a random tree on a disk.
func tree(t *testing.T, root string, files int, random *rand.Rand) {
	t.Helper()
	folders := []string{root}
	write := func(path string, size int) {
		data := make([]byte, size)
		for i := range data {
			data[i] = byte(random.Uint32())
		}
		if err := os.WriteFile(path, data, 0o666); err != nil {
			t.Fatal(err)
		}
		at := time.Unix(1_700_000_000+random.Int64N(50_000_000), 0)
		if err := os.Chtimes(path, at, at); err != nil {
			t.Fatal(err)
		}
	}
	for i := range files {
		parent := folders[random.IntN(len(folders))]
		if random.IntN(20) == 0 {
			parent = filepath.Join(parent, fmt.Sprintf("Ordner é %d", i))
			folders = append(folders, parent)
		}
		if err := os.MkdirAll(parent, 0o777); err != nil {
			t.Fatal(err)
		}
		size := random.IntN(20_000)
		switch random.IntN(200) {
		case 0:
			size = 8 << 20
		case 1, 2, 3, 4, 5:
			size = 0
		}
		write(filepath.Join(parent, fmt.Sprintf("file %d.bin", i)), size)
	}
	odd := filepath.Join(root, "odd names")
	if err := os.MkdirAll(odd, 0o777); err != nil {
		t.Fatal(err)
	}
	for i, name := range storetest.Names {
		write(filepath.Join(odd, name), i)
	}
}

// sums are the hashes of all files below a folder, by their paths.
func sums(t *testing.T, root string) map[string]string {
	t.Helper()
	all := map[string]string{}
	err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
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
		below, err := filepath.Rel(root, path)
		all[below] = hex.EncodeToString(sum.Sum(nil))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

func killed(t *testing.T, program string, k killing) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	shell := servertest.StartOpenSSH(t)
	apache := servertest.StartApache(t, servertest.ApacheOptions{})
	objects := servertest.StartObjectStore(t)
	source, bucket := shell.Folder(t), objects.Bucket(t)
	share, shared := apache.Folder(t)
	tree(t, filepath.Join(source, "all"), k.files, random)
	want := sums(t, filepath.Join(source, "all"))
	// A name that reads as a translated one is translated, so that it comes back as itself.
	want["odd names/%25E9.txt"] = want["odd names/%E9.txt"]
	delete(want, "odd names/%E9.txt")
	toObjects := servertest.StartRelay(t, strings.TrimPrefix(objects.Endpoint, "http://"))
	toShell := servertest.StartRelay(t, shell.Host+":"+shell.Port)

	data, address := filepath.Join(scratch(t), "data"), servertest.FreeAddress(t)
	h, process := serve(t, program, data, address)
	h.link(contract.Link{Provider: "sftp", Name: "gauges", Secret: shell.Password,
		Options: map[string]string{"host": toShell.Host, "port": toShell.Port, "user": shell.User, "path": source}})
	h.link(contract.Link{Provider: "s3", Name: "objects", Secret: objects.Secret, Options: map[string]string{
		"endpoint": "http://" + toObjects.Host + ":" + toObjects.Port, "bucket": bucket, "key": objects.Key, "parts-above": "5",
		"part-size": "5"}})
	h.link(contract.Link{Provider: "webdav", Name: "share", Secret: apache.Password,
		Options: map[string]string{"url": share, "user": apache.User}})

	trees := []*churned{churn(t, h, "mirror", k.files/10, random), churn(t, h, "two-way", k.files/10, random)}

	kills, breaks, rounds := 0, 0, 0
	deadline := time.Now().Add(k.within)
	for ; kills < k.kills; rounds++ {
		into := fmt.Sprintf("round %d", rounds)
		var ids []string
		for _, target := range []string{"/objects/", "/share/"} {
			started, err := h.client.Copy(t.Context(),
				contract.Copy{From: []string{"/gauges/all"}, To: target + into, Settings: contract.Settings{Retry: contract.Retry{Tries: 50}}})
			if err != nil {
				t.Fatal(err)
			}
			ids = append(ids, started.Run)
		}
		for ended := false; !ended; {
			if time.Now().After(deadline) {
				for _, id := range ids {
					run, err := h.client.Run(t.Context(), id)
					t.Errorf("not ended after %d kills in %d rounds: %s, %+v, %s, %+v, %v", kills, rounds, run.State, run.Items, run.Why, run.Now, err)
				}
				return
			}
			for _, tree := range trees {
				tree.work()
				tree.start()
			}
			<-time.After(time.Duration(150+random.IntN(1500)) * time.Millisecond)
			switch {
			case kills >= k.kills: // it is left to end
				toObjects.BreakAfter(-1)
				toShell.BreakAfter(-1)
			case random.IntN(3) > 0:
				if err := process.Process.Signal(syscall.SIGKILL); err != nil {
					t.Fatal(err)
				}
				process.Wait()
				kills++
				_, process = serve(t, program, data, address)
			default:
				toObjects.BreakAfter(random.Int64N(8 << 20))
				toShell.BreakAfter(random.Int64N(8 << 20))
				breaks++
			}
			ended = true
			for _, id := range ids {
				run, err := h.client.Run(t.Context(), id)
				if err != nil {
					t.Fatal(err)
				}
				ended = ended && run.State.Ended()
			}
		}
		toObjects.BreakAfter(-1)
		toShell.BreakAfter(-1)
		for _, tree := range trees {
			tree.settle()
		}
		for _, id := range ids {
			run, err := h.client.Run(t.Context(), id)
			if err != nil || run.State != "done" || run.Items.Failed > 0 {
				t.Errorf("round %d: %s, %+v, %s, %v", rounds, run.State, run.Items, run.Why, err)
				for item, err := range h.client.Items(t.Context(), id, client.ItemFilter{State: "failed"}) {
					t.Logf("%+v, %v", item, err)
				}
			}
		}
		for place, root := range map[string]string{"the object store": filepath.Join(objects.Data, bucket), "Apache": shared} {
			same(t, place, sums(t, filepath.Join(root, into, "all")), want)
			leftOver(t, place, root)
			if err := os.RemoveAll(filepath.Join(root, into)); err != nil {
				t.Fatal(err)
			}
		}
		if open, err := objects.Client(t).ListMultipartUploads(t.Context(), bucket, "", "", "", "", 1000); err != nil || len(open.Uploads) > 0 {
			t.Errorf("round %d: %d uploads are left open, %v", rounds, len(open.Uploads), err)
		}
		if t.Failed() {
			break
		}
	}
	if err := process.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := process.Wait(); err != nil { // 66 where the race detector found something
		t.Errorf("the service ended with %v", err)
	}
	fmt.Printf("%d kills and %d breaks in %d rounds of %d files to two servers: nothing lost, wrong, partial or left over: %v\n", kills,
		breaks, rounds, len(want), !t.Failed())
}

func same(t *testing.T, place string, got, want map[string]string) {
	t.Helper()
	for name, sum := range want {
		if got[name] != sum {
			t.Errorf("%s: %q is %.8s, want %.8s", place, name, got[name], sum)
		}
	}
	for name := range got {
		if want[name] == "" {
			t.Errorf("%s: %q was not copied there", place, name)
		}
	}
}

// leftOver looks for names of ours below a folder.
func leftOver(t *testing.T, place, root string) {
	t.Helper()
	err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err == nil && strings.HasPrefix(entry.Name(), ".heron-arriving-") {
			t.Errorf("%s: %s is left over", place, path)
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}
