package records_test

import (
	"testing"

	"deftheron/service/records"
)

// TestOpenUploads keeps the uploads of two processes: each finds those of the other.
func TestOpenUploads(t *testing.T) {
	t.Parallel()
	db := open(t, t.TempDir())
	var ids []int64
	for _, upload := range []records.OpenUpload{
		{Account: "a", Process: "before", Sealed: []byte("1")}, {Account: "a", Process: "now", Sealed: []byte("2")},
		{Account: "b", Process: "before", Sealed: []byte("3")},
	} {
		id, err := db.KeepOpenUpload(t.Context(), upload)
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, id)
	}
	abandoned := func(account, want string) {
		t.Helper()
		found, err := db.AbandonedUploads(t.Context(), account, "now")
		got := ""
		for _, one := range found {
			got += string(one.Sealed)
		}
		if err != nil || got != want {
			t.Errorf("abandoned of %s are %q, want %q; %v", account, got, want, err)
		}
	}
	abandoned("a", "1")
	abandoned("b", "3")
	if err := db.DropOpenUpload(t.Context(), ids[0]); err != nil {
		t.Fatal(err)
	}
	if err := db.RemoveAccount(t.Context(), records.Account{ID: "b"}); err != nil {
		t.Fatal(err)
	}
	abandoned("a", "")
	abandoned("b", "")
}
