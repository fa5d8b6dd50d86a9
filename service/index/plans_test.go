package index_test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"deftheron/servertest/plans"
	"deftheron/service/index"
)

func TestMain(m *testing.M) {
	index.UseDriver(plans.DriverName)
	code := m.Run()
	if code == 0 && !plans.Selected() {
		if err := explain(); err != nil {
			fmt.Println(err)
			code = 1
		}
	}
	os.Exit(code)
}

// whole are statements that are meant to go through an index: to count, or to its first.
var whole = []string{"(SELECT count(*) FROM entries INDEXED BY entries_place", "WHERE parent = -1 LIMIT 1"}

// large is a scan of a table that grows with files.
var large = regexp.MustCompile(`^SCAN (entries|texts|e)\b`)

// prefixOnly is a search by the account alone, which reads all of it.
var prefixOnly = regexp.MustCompile(`SEARCH \w+ USING (INDEX|COVERING INDEX) entries_place \(account=\?\)`)

var filled = []string{
	"INSERT INTO accounts (link, name, contents) VALUES ('one', 'one', 1), ('other', 'other', 0)",
	`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000)
		INSERT INTO entries (id, account, parent, key, name, folder, kind, size, modified, revision, ref, due, state)
		SELECT i, 1 + i % 2, i / 100, CAST('key' || i AS BLOB), 'name' || i, i < 200, 'file', i, i, 'r', 'ref' || i, i, i % 4 FROM n`,
}

// explain holds the plan of every statement to an index that fits.
func explain() error {
	dir, err := os.MkdirTemp("", "plans-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	x, err := index.Open(context.Background(), index.Options{Dir: dir})
	if err != nil {
		return err
	}
	x.Close()
	pool, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, index.FileName))
	if err != nil {
		return err
	}
	defer pool.Close()
	return plans.Check(pool, []plans.Step{
		{Name: "empty"}, {Name: "full", Prepare: filled}, {Name: "full, with statistics", Prepare: []string{"ANALYZE"}},
	}, func(statement, line string) bool {
		scans := large.MatchString(line) || prefixOnly.MatchString(line)
		return scans && !slices.ContainsFunc(whole, func(part string) bool { return strings.Contains(statement, part) })
	})
}
