package bench

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"

	"deftheron/contract"
	"deftheron/service/records"
)

// TestGrowthPeople asks for pages of a large audit log, and for runs as somebody who sees few of them.
func TestGrowthPeople(t *testing.T) {
	if !*growth {
		t.Skip("only with -growth, as make bench-growth does")
	}
	entries, runs := manyItems**scale/100, manyRuns**scale/100
	h, address := serveFilled(t, func(data string) {
		fillAudit(t, data, entries)
		fillRuns(t, data, runs)
	})
	for what, path := range map[string]string{
		"the latest entries":        "/audit?limit=100",
		"entries in the middle":     fmt.Sprintf("/audit?limit=100&cursor=%d", entries/2),
		"entries of a user":         "/audit?limit=100&user=user-7",
		"entries of nobody":         "/audit?limit=100&user=nobody-at-all",
		"entries of an action":      "/audit?limit=100&action=remove",
		"of a user, of an action":   "/audit?limit=100&user=user-7&action=remove",
		"with a text that none has": "/audit?limit=100&text=nothing",
	} {
		slowest := h.slowest(address, path)
		figure(fmt.Sprintf("audit log: %s, of %d", what, entries), "≤ 300 ms", slowest, "ms", slowest <= 300)
	}
	h.link(contract.Link{Provider: "folder", Name: "desk", Options: map[string]string{"path": t.TempDir()}})
	made, err := h.client.MakeToken(t.Context(), contract.TokenRequest{Name: "narrow", Grants: []contract.Grant{{Address: "/desk",
		Role: "viewer"}}})
	if err != nil {
		t.Fatal(err)
	}
	h.client.Token = made.Secret
	slowest := h.slowest(address, "/runs?limit=100")
	figure(fmt.Sprintf("runs, as somebody who sees none of %d", runs), "≤ 300 ms", slowest, "ms", slowest <= 300)
}

// fillAudit writes entries of 50 users, which nobody chained.
func fillAudit(t *testing.T, data string, entries int) {
	t.Helper()
	pool, err := sql.Open("sqlite3", "file:"+filepath.Join(data, records.FileName))
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	_, err = pool.Exec(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?)
		INSERT OR IGNORE INTO audit (seq, at, user, kind, "from", client, action, subject, outcome, times, mac)
		SELECT i, 1760000000000 + i, 'user-' || (i % 50), 'session', '127.0.0.1', 'a browser', CASE WHEN i % 1000 = 0 THEN 'remove' ELSE
			'read-content' END, '/desk/file ' || i, 'done', 1, x'00' FROM n`, entries)
	if err != nil {
		t.Fatal(err)
	}
}
