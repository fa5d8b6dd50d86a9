package storetest

import (
	"strings"
	"time"

	"deftheron/core/store"
)

// Distant wants of a store at a server that is so far away that a file of 8 MiB is
// read in far less time than its requests would take one after the other, at 32 KiB
// each, and written too.
func Distant(t T, s store.Store, delay time.Duration) {
	t.Helper()
	const size, request = 8 << 20, 32 << 10
	content := strings.Repeat("0123456789abcdef", size/16)
	begun := time.Now()
	written, err := write(t, s, at(s, "large.bin"), content, store.Absent)
	if err != nil {
		t.Fatal(err)
	}
	wrote := time.Since(begun)
	begun = time.Now()
	if _, n, err := store.ReadBack(t.Context(), s, at(s, "large.bin"), written.Revision, store.CRC64NVME); err != nil || n != size {
		t.Fatalf("read %d bytes, %v", n, err)
	}
	took, inTurn := time.Since(begun), size/request*delay
	if took > inTurn/4 {
		t.Errorf("reading took %v; its requests one after the other would take %v", took, inTurn)
	}
	if wrote > inTurn*3/4 { // it is read back, too
		t.Errorf("writing took %v; its requests one after the other would take %v, twice", wrote, inTurn)
	}
}
