package bench

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/listing"
	"deftheron/core/store"
	"deftheron/provider/sftp"
	"deftheron/servertest"
)

// TestBenchWalk lists 100 folders of ten files of an OpenSSH server 20 ms away, and
// holds that against listing the same folders one after the other.
func TestBenchWalk(t *testing.T) {
	skip(t)
	server := servertest.StartOpenSSH(t)
	root := server.Folder(t)
	const entries = 10 + 10*10 + 100*10 // folders, folders in them, files
	for i := range 100 {
		folder := filepath.Join(root, fmt.Sprint(i/10), fmt.Sprint(i%10))
		if err := os.MkdirAll(folder, 0o777); err != nil {
			t.Fatal(err)
		}
		for j := range 10 {
			if err := os.WriteFile(filepath.Join(folder, fmt.Sprint(j)), nil, 0o666); err != nil {
				t.Fatal(err)
			}
		}
	}
	options, err := store.CheckOptions(sftp.Provider{}, map[string]string{"host": server.Host, "port": server.Port, "user": server.User,
		"path": root}, true)
	if err != nil {
		t.Fatal(err)
	}
	s, err := sftp.Provider{}.Open(t.Context(), store.Opening{
		Options: options, Secrets: store.FixedSecret(server.Password), Gate: gate.New("bench", 16, 64),
		Dial: servertest.Distant(20 * time.Millisecond),
	})
	if err != nil {
		t.Fatal(err)
	}
	defer s.(interface{ Close() error }).Close()
	inTurn := func() float64 {
		begun, n := time.Now(), 0
		var list func(folder store.Folder)
		list = func(folder store.Folder) {
			for entry, err := range s.List(t.Context(), folder) {
				if err != nil {
					t.Fatal(err)
				}
				if n++; entry.Kind == store.KindFolder {
					list(entry.Folder(folder))
				}
			}
		}
		if list(store.Folder{}); n != entries {
			t.Fatalf("%d entries", n)
		}
		return time.Since(begun).Seconds()
	}
	ahead := func() float64 {
		begun, n := time.Now(), 0
		for _, err := range listing.Flat(t.Context(), s, store.Folder{}) {
			if err != nil {
				t.Fatal(err)
			}
			n++
		}
		if n != entries {
			t.Fatalf("%d entries", n)
		}
		return time.Since(begun).Seconds()
	}
	ahead() // the connections are warm
	var ratios []float64
	for i := range *pairs {
		var one, other float64
		if i%2 == 0 {
			one, other = inTurn(), ahead()
		} else {
			other, one = ahead(), inTurn()
		}
		ratios = append(ratios, one/other)
	}
	row(t, "folders of a server 20 ms away, to one by one", "≥ 4", ratios, 4)
}
