package accounts

import (
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// TestKeepUsage counts requests of an account in the interval in which they were made, over
// the account being opened again.
func TestKeepUsage(t *testing.T) {
	db, err := records.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	row := records.Account{ID: "id", Name: "desk", Provider: "folder", Options: map[string]string{}, CreatedAt: time.Now()}
	if err := db.AddAccount(t.Context(), &row); err != nil {
		t.Fatal(err)
	}
	a := New(db, nil, nil, nil)
	open := func() *gate.Gate {
		opened := tree.Account{Gate: gate.New("desk", 4, 4)}
		a.mu.Lock()
		defer a.mu.Unlock()
		a.open["id"] = opened
		return opened.Gate
	}
	request := func(g *gate.Gate, n int) {
		for range n {
			done, err := g.Pass(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			done(nil)
		}
	}
	begun := time.Now().Truncate(records.UsageEvery)
	before := map[string]counted{}
	first := open()
	request(first, 3)
	a.keepUsage(t.Context(), before, begun)
	request(first, 2)
	a.keepUsage(t.Context(), before, begun.Add(time.Minute))
	a.keepUsage(t.Context(), before, begun.Add(2*time.Minute)) // nothing was done
	request(open(), 4)
	a.keepUsage(t.Context(), before, begun.Add(records.UsageEvery))
	usage, err := a.Usage(t.Context(), "desk", begun)
	if err != nil || len(usage.Used) != 2 || usage.Used[0].Requests != 5 || usage.Used[1].Requests != 4 || !usage.Used[0].At.Equal(begun) {
		t.Errorf("the usage is %+v, %v", usage, err)
	}
	if _, err := a.Usage(t.Context(), "none", begun); err == nil {
		t.Error("an account that is not linked has a usage")
	}
}
