// Package plans tells how SQLite carries out the statements that tests have had carried out.
package plans

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/mattn/go-sqlite3"
)

// DriverName names an SQLite driver that records every statement.
const DriverName = "sqlite3-telling"

// asked are the statements that were carried out, with how many arguments each had.
var asked = struct {
	sync.Mutex
	statements map[string]int
}{statements: map[string]int{}}

func init() { sql.Register(DriverName, &telling{}) }

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

// Selected reports whether a -test.run flag selects tests: not all statements are recorded then.
func Selected() bool {
	return slices.ContainsFunc(os.Args, func(arg string) bool { return strings.HasPrefix(arg, "-test.run") })
}

// Step is a state of a database in which plans are looked at, and what brings it about.
type Step struct {
	Name    string
	Prepare []string
}

// Check looks at the plan of every statement that was asked, in each step of a database, and
// returns the lines of plans that wrong says of a statement are not to be, and every index that
// SQLite makes for one statement alone.
func Check(pool *sql.DB, steps []Step, wrong func(statement, line string) bool) error {
	asked.Lock()
	defer asked.Unlock()
	var problems []string
	for _, step := range steps {
		for _, statement := range step.Prepare {
			if _, err := pool.Exec(statement); err != nil {
				return fmt.Errorf("%s: %w", statement, err)
			}
		}
		for _, statement := range slices.Sorted(maps.Keys(asked.statements)) {
			lines, err := planOf(pool, statement, asked.statements[statement])
			if err != nil {
				return fmt.Errorf("%s: %w", statement, err)
			}
			for _, line := range lines {
				if wrong(statement, line) || strings.Contains(line, "AUTOMATIC") {
					problems = append(problems, step.Name+": "+line+": "+strings.Join(strings.Fields(statement), " "))
				}
			}
		}
	}
	if len(problems) > 0 {
		return fmt.Errorf("statements without an index that fits:\n%s", strings.Join(problems, "\n"))
	}
	return nil
}

var verb = regexp.MustCompile(`(?i)^\s*(SELECT|UPDATE|DELETE|INSERT|WITH)\b`)

func planOf(pool *sql.DB, statement string, arguments int) (lines []string, err error) {
	if !verb.MatchString(statement) || strings.Contains(statement, "sqlite_master") || strings.Contains(statement, "migrations") ||
		strings.Contains(statement, "CREATE ") || strings.Contains(statement, "json_object(") {
		return nil, nil
	}
	args := make([]any, arguments)
	for i := range args {
		args[i] = 1
	}
	rows, err := pool.Query("EXPLAIN QUERY PLAN "+statement, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id, parent, unused int
		var line string
		if err := rows.Scan(&id, &parent, &unused, &line); err != nil {
			return nil, err
		}
		lines = append(lines, line)
	}
	return lines, rows.Err()
}
