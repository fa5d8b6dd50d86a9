package certify_test

import (
	"crypto/sha256"
	"encoding/hex"
	"reflect"
	"testing"

	"deftheron/core/certify"
	"deftheron/core/plan"
)

// TestTally counts what is verified by kind, and what is not by cause.
func TestTally(t *testing.T) {
	var tally certify.Tally
	for _, file := range []certify.File{
		{Address: "/a/1", Size: 10, Verification: "md5=00"},
		{Address: "/a/2", Size: 5, Cause: plan.CauseDiffers},
		{Address: "/a/3", Size: 1, Verification: "size"},
		{Address: "/a/4", Size: 2, Verification: "md5=01"},
		{Address: "/a/5", Size: -1, Cause: plan.CauseDocument},
		{Address: "/a/6", Size: 7, Cause: plan.CauseDiffers},
	} {
		tally.Add(file)
	}
	want := certify.Tally{
		Verified: plan.Count{Items: 3, Bytes: 13}, Unverified: plan.Count{Items: 3, Bytes: 12},
		By: []certify.ByKind{{"md5", plan.Count{Items: 2, Bytes: 12}}, {"size", plan.Count{Items: 1, Bytes: 1}}},
		Why: []certify.ByCause{{plan.CauseDiffers, plan.Count{Items: 2, Bytes: 12}},
			{plan.CauseDocument, plan.Count{Items: 1}}},
	}
	if !reflect.DeepEqual(tally, want) {
		t.Errorf("%+v, want %+v", tally, want)
	}
}

// TestFolder names the folder of a file.
func TestFolder(t *testing.T) {
	for address, want := range map[string]string{"/a/b/c.txt": "/a/b", "/a/c.txt": "/a", "/a": "/"} {
		if got := (certify.File{Address: address}).Folder(); got != want {
			t.Errorf("%s lies in %s, want %s", address, got, want)
		}
	}
}

// TestDigest is that of the lines, so that anybody can compute it with common tools.
func TestDigest(t *testing.T) {
	digest := certify.NewDigest()
	digest.Line([]byte(`{"head":1}`))
	digest.Line([]byte(`{"file":1}`))
	sum := sha256.Sum256([]byte("{\"head\":1}\n{\"file\":1}\n"))
	if got, want := digest.String(), "sha256="+hex.EncodeToString(sum[:]); got != want {
		t.Errorf("%s, want %s", got, want)
	}
}
