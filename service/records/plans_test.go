package records_test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/servertest/plans"
	"deftheron/service/records"
)

func TestMain(m *testing.M) {
	records.UseDriver(plans.DriverName)
	code := m.Run()
	if code == 0 && !plans.Selected() {
		if err := explain(); err != nil {
			fmt.Println(err)
			code = 1
		}
	}
	os.Exit(code)
}

// large are the tables that grow with files, runs and changes.
var large = regexp.MustCompile(`\b(items|pairs|parts|contents|incoming|certificate_files|certificate_shares|runs|link_events|space_samples|notifications|speeds|papers|history|history_parts|history_folders|run_events|run_accounts|account_usage)\b`)

// whole are statements that are meant to go through all of a run, a scope or a table:
// once in its life, or a page at a time in the order of the index.
var whole = []string{
	" = CASE ", "UPDATE notifications SET channel", "LIKE '{%'", "count(*) - coalesce(sum(", "SELECT state, cause, count(*) AS items",
	"DELETE FROM items WHERE state <> 'done'",
	"DELETE FROM pairs WHERE scope", "UPDATE pairs SET source_revision",
	"runs INDEXED BY runs_open WHERE ended_at IS NULL AND created_at < ? AND EXISTS", "UPDATE scopes SET known = (SELECT count",
	"SELECT DISTINCT run FROM items INDEXED BY items_waiting", "ORDER BY key LIMIT", "UPDATE items SET state = 'waiting'",
	"FROM certificate_files WHERE run = ? GROUP BY folder", "FROM certificate_files WHERE run", "DELETE FROM certificate_files",
	"DELETE FROM certificate_shares",
	"FROM items JOIN uploads", "seq > ? ORDER BY seq LIMIT", "DELETE FROM contents WHERE scope", "DELETE FROM incoming WHERE job",

	"instr(routes,", "ORDER BY number DESC", "SELECT * FROM `link_events` ORDER BY seq",
	"UPDATE items SET state = ?, cause = ?, ended = ? WHERE state = 'waiting'",
	"json_each(runs.routes)", "SELECT route, sum(moved) FROM items WHERE run",
	"FROM runs WHERE moved > 0 GROUP BY", "UPDATE runs SET flowed = moved",
	// by number
	"DELETE FROM notifications WHERE at", "SELECT number FROM scopes WHERE EXISTS", "SELECT * FROM `notifications` ORDER BY seq DESC LIMIT",
	// the first of an index
	"ORDER BY since DESC LIMIT", "runs INDEXED BY runs_open WHERE ended_at IS NULL ORDER BY",
	"FROM runs INDEXED BY runs_open WHERE ended_at IS NULL AND state", "ORDER BY due_at LIMIT",
}

// explain holds the plan of every statement to an index that fits: in a database that
// is empty and in one that is full, with statistics and without.
func explain() error {
	dir, err := os.MkdirTemp("", "plans-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	db, err := records.Open(dir)
	if err != nil {
		return err
	}
	db.Close()
	pool, err := sql.Open("sqlite3", "file:"+dir+"/"+records.FileName)
	if err != nil {
		return err
	}
	defer pool.Close()
	return plans.Check(pool, []plans.Step{
		{Name: "empty"},
		{Name: "full", Prepare: filled},
		{Name: "full, with statistics", Prepare: []string{"ANALYZE"}},
		{Name: "empty, with statistics", Prepare: []string{"DELETE FROM items", "DELETE FROM pairs", "DELETE FROM incoming", "ANALYZE"}},
	}, func(statement, line string) bool {
		scans := strings.HasPrefix(line, "SCAN") && large.MatchString(line) || prefixOnly.MatchString(line)
		return scans && !slices.ContainsFunc(whole, func(part string) bool { return strings.Contains(statement, part) })
	})
}

// prefixOnly is a search by the run or the scope alone, which reads all of it.
var prefixOnly = regexp.MustCompile(`SEARCH (items|pairs|incoming|contents) USING (PRIMARY KEY|INDEX \w+|COVERING INDEX \w+) \((run|scope|job)=\?\)`)

// filled are statements that fill the tables which grow most.
var filled = []string{
	"INSERT INTO scopes (name) VALUES ('one'), ('other')",
	`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000)
		INSERT INTO pairs (scope, key, source_revision, source_size, source_time, target_revision, target_size, target_time,
			kept, run, mark, target_mark, target_key)
		SELECT 1, CAST('key' || i AS BLOB), 'r' || i, i, i, 't' || i, i, i, 0, 'run', 'mark' || i, 'tm' || i,
			CASE i % 10 WHEN 0 THEN CAST('to' || i AS BLOB) END FROM n`,
	`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000)
		INSERT INTO items (run, seq, route, key, kind, action, writes, size, source_id, source_revision, source_time,
			target_revision, target_size, target_time, state, cause, why, verification, name, moved, attempts, ended)
		SELECT 1, i, 0, CAST('key' || i AS BLOB), 'file', 'create', i % 4, i, '', 'r', 0, '', 0, 0,
			CASE i % 3 WHEN 0 THEN 'waiting' WHEN 1 THEN 'done' ELSE 'failed' END, '', '', '', '', 0, 0, i FROM n`,
}

// TestEveryStatement calls every exported operation of the records with something, so
// that its statements are among those whose plans are looked at.
func TestEveryStatement(t *testing.T) {
	t.Chdir(t.TempDir()) // for the operations that write files
	db := open(t, t.TempDir())
	addRun(t, db, "x")
	value := reflect.ValueOf(db)
	for i := range value.NumMethod() {
		name, method := value.Type().Method(i).Name, value.Method(i)
		if name == "Close" {
			continue
		}
		for variant := range 8 {
			arguments := []reflect.Value{}
			for n := range method.Type().NumIn() {
				if method.Type().IsVariadic() && n == method.Type().NumIn()-1 {
					continue
				}
				arguments = append(arguments, something(t, method.Type().In(n), variant))
			}
			for _, result := range method.Call(arguments) {
				goThrough(result)
			}
		}
	}
}

// something is a value of a type, of which there are some variants.
func something(t *testing.T, kind reflect.Type, variant int) reflect.Value {
	value := reflect.New(kind).Elem()
	switch {
	case kind == reflect.TypeFor[context.Context]():
		return reflect.ValueOf(t.Context())
	case kind == reflect.TypeFor[time.Time]():
		return reflect.ValueOf(time.Now())
	case kind == reflect.TypeFor[store.Path]():
		value.SetString("folder/")
	case kind.Kind() == reflect.String:
		value.SetString([]string{"x", "failed", "skipped", "waiting", "done", "", "folder/", "y"}[variant])
	case kind.Kind() == reflect.Bool:
		value.SetBool(variant%2 == 1)
	case kind.Kind() == reflect.Int || kind.Kind() == reflect.Int64:
		value.SetInt(int64(variant % int(plan.Phases)))
	case kind.Kind() == reflect.Slice && kind.Elem().Kind() == reflect.Struct:
		value.Set(reflect.MakeSlice(kind, 1, 1))
	case kind.Kind() == reflect.Slice && kind.Elem().Kind() == reflect.String:
		value.Set(reflect.MakeSlice(kind, 1, 1))
		value.Index(0).SetString("x")
	case kind.Kind() == reflect.Pointer:
		value.Set(reflect.New(kind.Elem()))
	}
	return value
}

// goThrough reads a sequence to its end.
func goThrough(result reflect.Value) {
	if result.Kind() != reflect.Func || result.IsNil() || result.Type().NumIn() != 1 {
		return
	}
	yield := reflect.MakeFunc(result.Type().In(0), func([]reflect.Value) []reflect.Value { return []reflect.Value{reflect.ValueOf(true)} })
	result.Call([]reflect.Value{yield})
}
