package records_test

import (
	"database/sql"
	"path/filepath"
	"testing"

	"deftheron/core/job"
	"deftheron/core/plan"
	"deftheron/service/records"
)

// TestEarlierRecords opens records as the version before wrote them.
func TestEarlierRecords(t *testing.T) {
	dir := t.TempDir()
	if err := records.MigrateTo(dir, "0016-causes"); err != nil {
		t.Fatal(err)
	}
	pool, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, records.FileName))
	if err != nil {
		t.Fatal(err)
	}
	const now = "2026-11-01 10:00:00"
	for _, statement := range []struct {
		text string
		args []any
	}{
		{"INSERT INTO jobs (id, name, type, routes, rules, created_at, once, spec) VALUES ('j', 'nightly', 'mirror', ?, '{}', ?, 0, ?)", []any{
			`[{"from":"/desk","to":"/archive"}]`, now,
			`{"Name":"nightly","Type":"mirror","Routes":null,"When":{"weekly":"mon-fri 22:00-06:00"},"Rules":{"Clash":"leave","Deletions":"follow","LeaveOut":["*.tmp"],` +
				`"Only":{"Patterns":["*.odt"],"SmallerThan":"2GiB","Changed":false},"Documents":{"text":"odt+pdf"},"Proof":"readback"},"Migrate":{},"Arrivals":{"at_once":3},` +
				`"Brake":{"Deletions":"7%"},"Priority":"high","Retry":{"Tries":8,"Within":"2h"},"Pace":{"Up":"20MB/s","Hours":{"sat 08-18":"5MB/s","mon-fri 08-18":"1MB/s"}}}`,
		}},
		{`INSERT INTO runs (number, id, job, state, cause, why, routes, rules, planned, totals, cancelling, items, done, skipped, failed, unchanged, bytes, moved, interruptions, created_at, released, step)
			VALUES (1, 'r', 'nightly', 'held', 'brake', 'why', '[]', ?, 1, ?, 0, 1, 0, 0, 1, 0, 0, 0, 0, ?, 1, 'fetch')`, []any{
			`{"type":"mirror","deletions":"follow","clash":"leave","brake":{"deletions":{"percent":7}},"filter":{"leave_out":["*.tmp"],"only":["*.odt"]},"prove_all":true,"proof":"readback","pace":{"up":5,"hours":[{"when":"sat 08-18","up":1,"down":2}]}}`,
			`{"left_out":{"items":2},"folders_left_out":3}`, now,
		}},
		{`INSERT INTO items (run, seq, route, key, kind, action, writes, size, source_id, source_revision, source_time, target_revision, target_size, target_time, state, cause, why, proof, name, moved, attempts, ended)
			VALUES (1, 1, 0, CAST('x' AS BLOB), 'file', 'create', 1, 5, '', '', 0, '', 0, 0, 'failed', 'proof-failed', '', 'md5=1', '', 0, 1, 0)`, nil},
		{"INSERT INTO link_events (account, name, at, what, by, why, settings) VALUES ('a', 'desk', ?, 'lapsed', '', '', '{}')", []any{now}},
		{"INSERT INTO certificates (run, made_at, head, digest) VALUES (1, ?, ?, 'd')",
			[]any{now, `{"proven":{"items":3},"rules":{"clash":"leave","only":["*.odt"],"types":["pictures"]}}`}},
		{"INSERT INTO meta (name, value) VALUES ('notices', ?), ('pace', '{\"overall\":{\"up\":7}}')",
			[]any{`{"mail":{"server":"mail.example.org:25"},"webhooks":[]}`}},
		{"INSERT INTO notices (at, event, subject, text, payload, channel, tries, due_at, given_up, why) VALUES (?, 'failed', 's', 't', " +
			"'{}', 'mail', 0, ?, 0, '')", []any{now, now}},
	} {
		if _, err := pool.Exec(statement.text, statement.args...); err != nil {
			t.Fatalf("%s: %v", statement.text, err)
		}
	}
	pool.Close()

	db, err := records.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	kept, err := db.KeptJob(t.Context(), "nightly")
	if err != nil {
		t.Fatal(err)
	}
	spec := kept.Spec
	if rules := spec.Rules; rules.Conflict != "target" || rules.Deletions != "delete" || len(rules.Exclude) != 1 ||
		len(rules.Include.Patterns) != 1 || rules.Include.SmallerThan != "2GiB" ||
		rules.Documents["text"] != "odt+pdf" || rules.Verification != "read-back" {
		t.Errorf("the rules of the job: %+v", rules)
	}
	if spec.When.Weekly != "mon-fri 22:00-06:00" || spec.Safety.Deletions != "7%" || spec.Priority != "high" ||
		spec.Retry != (job.Retry{Tries: 8, Within: "2h"}) || spec.Arrivals.AtOnce != 3 {
		t.Errorf("the job: %+v", spec)
	}
	if hours := spec.Bandwidth.Hours; len(hours) != 2 || hours[0] != (job.Hour{When: "mon-fri 08-18", Rate: "1MB/s"}) ||
		spec.Bandwidth.Up != "20MB/s" {
		t.Errorf("its bandwidth: %+v", spec.Bandwidth)
	}
	run, err := db.Run(t.Context(), "r")
	if err != nil {
		t.Fatal(err)
	}
	if r := run.Rules; r.Conflict != plan.KeepTarget || r.Deletions != plan.DeleteToo || r.Safety.Deletions.Text() != "7%" ||
		len(r.Filter.Include) != 1 || !r.VerifyAll || r.Verification != "read-back" ||
		r.Bandwidth.Up != 5 || len(r.Bandwidth.Hours) != 1 {
		t.Errorf("the rules of the run: %+v", r)
	}
	if run.Cause != string(plan.CauseSafety) || !run.Approved || run.Step != job.BringBack || run.Totals.Excluded.Items != 2 ||
		run.Totals.FoldersExcluded != 3 {
		t.Errorf("the run: %+v", run)
	}
	counts, err := db.CauseCounts(t.Context(), 1)
	if err != nil || len(counts) != 1 || counts[0].Cause != string(plan.CauseVerification) {
		t.Errorf("causes of its items: %+v, %v", counts, err)
	}
	events, err := db.LinkEvents(t.Context(), "a")
	if err != nil || len(events) != 1 || events[0].What != records.SignInExpired {
		t.Errorf("events of the account: %+v, %v", events, err)
	}
	if text, err := db.Meta(t.Context(), "notices"); err != nil || text != `{"email":{"server":"mail.example.org:25"},"webhooks":[]}` {
		t.Errorf("settings of notifications: %s, %v", text, err)
	}
	if text, err := db.Meta(t.Context(), "bandwidth"); err != nil || text == "" {
		t.Errorf("bandwidth limits: %q, %v", text, err)
	}
	if due, err := db.Notifications(t.Context(), 10); err != nil || len(due) != 1 || due[0].Channel != "email" {
		t.Errorf("notifications: %+v, %v", due, err)
	}
}
