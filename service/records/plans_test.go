package records_test

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/mattn/go-sqlite3"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/service/records"
)

// asked are the statements that the tests of this package have had carried out, with
// how many arguments each had.
var asked = struct {
	sync.Mutex
	statements map[string]int
}{statements: map[string]int{}}

// telling is the SQLite driver, and notes what it is asked.
type telling struct{ sqlite3.SQLiteDriver }

func (d *telling) Open(name string) (driver.Conn, error) {
	conn, err := d.SQLiteDriver.Open(name)
	if err != nil {
		return nil, err
	}
	return &tellingConn{conn.(*sqlite3.SQLiteConn)}, nil
}

type tellingConn struct{ *sqlite3.SQLiteConn }

func note(query string, n int) {
	asked.Lock()
	defer asked.Unlock()
	asked.statements[query] = max(asked.statements[query], n)
}

func (c *tellingConn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	note(query, strings.Count(query, "?"))
	return c.SQLiteConn.PrepareContext(ctx, query)
}

func (c *tellingConn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	note(query, len(args))
	return c.SQLiteConn.ExecContext(ctx, query, args)
}

func (c *tellingConn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	note(query, len(args))
	return c.SQLiteConn.QueryContext(ctx, query, args)
}

func TestMain(m *testing.M) {
	sql.Register("sqlite3-telling", &telling{})
	records.UseDriver("sqlite3-telling")
	code := m.Run()
	if code == 0 && len(os.Args) > 0 && !selected() {
		if err := explain(); err != nil {
			fmt.Println(err)
			code = 1
		}
	}
	os.Exit(code)
}

// selected reports whether only some tests ran: then not all statements were asked.
func selected() bool {
	return slices.ContainsFunc(os.Args, func(arg string) bool { return strings.HasPrefix(arg, "-test.run") })
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
	var wrong []string
	for _, step := range []string{"empty", "full", "full, with statistics", "empty, with statistics"} {
		var prepare []string
		switch step {
		case "full":
			prepare = filled
		case "full, with statistics":
			prepare = []string{"ANALYZE"}
		case "empty, with statistics":
			prepare = []string{"DELETE FROM items", "DELETE FROM pairs", "DELETE FROM incoming", "ANALYZE"}
		}
		for _, statement := range prepare {
			if _, err := pool.Exec(statement); err != nil {
				return fmt.Errorf("%s: %w", statement, err)
			}
		}
		for _, statement := range slices.Sorted(func(yield func(string) bool) {
			for one := range asked.statements {
				if !yield(one) {
					return
				}
			}
		}) {
			for _, problem := range planOf(pool, statement) {
				wrong = append(wrong, step+": "+problem)
			}
		}
	}
	if len(wrong) > 0 {
		return fmt.Errorf("statements without an index that fits:\n%s", strings.Join(wrong, "\n"))
	}
	return nil
}

var verb = regexp.MustCompile(`(?i)^\s*(SELECT|UPDATE|DELETE|INSERT)\b`)

// prefixOnly is a search by the run or the scope alone, which reads all of it.
var prefixOnly = regexp.MustCompile(`SEARCH (items|pairs|incoming|contents) USING (PRIMARY KEY|INDEX \w+|COVERING INDEX \w+) \((run|scope|job)=\?\)`)

func planOf(pool *sql.DB, statement string) (problems []string) {
	if !verb.MatchString(statement) || strings.Contains(statement, "sqlite_master") || strings.Contains(statement, "migrations") ||
		strings.Contains(statement, "CREATE ") ||
		strings.Contains(statement, "json_object(") {
		return nil
	}
	args := make([]any, asked.statements[statement])
	for i := range args {
		args[i] = 1
	}
	rows, err := pool.Query("EXPLAIN QUERY PLAN "+statement, args...)
	if err != nil {
		return []string{statement + ": " + err.Error()}
	}
	defer rows.Close()
	meant := slices.ContainsFunc(whole, func(part string) bool { return strings.Contains(statement, part) })
	for rows.Next() {
		var id, parent, unused int
		var detail string
		if err := rows.Scan(&id, &parent, &unused, &detail); err != nil {
			return []string{err.Error()}
		}
		scans := strings.HasPrefix(detail, "SCAN") && large.MatchString(detail) || prefixOnly.MatchString(detail)
		if scans && !meant {
			problems = append(problems, detail+": "+strings.Join(strings.Fields(statement), " "))
		}
		if strings.Contains(detail, "AUTOMATIC") {
			problems = append(problems, detail+": "+statement)
		}
	}
	return problems
}

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
