package records

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// renameMigration gives columns, causes, states and the keys of stored JSON the names that
// the program and its job files have now.
func renameMigration() *gormigrate.Migration {
	return &gormigrate.Migration{ID: "0017-names", Migrate: func(tx *gorm.DB) error {
		for _, statement := range renameStatements() {
			if err := tx.Exec(statement).Error; err != nil {
				return fmt.Errorf("%s: %w", statement, err)
			}
		}
		for _, one := range []struct{ table, key, column string }{
			{"jobs", "id", "spec"}, {"jobs", "id", "rules"}, {"runs", "number", "rules"}, {"runs", "number", "totals"},
			{"certificates", "run", "head"}, {"speeds", "seq", "result"}, {"meta", "name", "value"},
		} {
			if err := renameIn(tx, one.table, one.key, one.column); err != nil {
				return err
			}
		}
		return nil
	}}
}

// renamedValues are what causes, events of links and steps were called, and are now.
var renamedValues = map[string]string{
	"clash-left": "conflict-target-kept", "clash-kept-both": "conflict-kept-both", "clash-older": "conflict-target-newer",
	"clash-question": "conflict-undecided",
	"sign-in-lapsed": "sign-in-expired", "proof-failed": "verification-failed", "brake": "safety-limit", "retired": "version-kept",
	"not-proven": "not-verified", "removal-ignored": "deletion-ignored",
	"lapsed": "sign-in-expired", "mended": "reauthorized", "ended": "unlinked", "fetch": "bring-back",
}

func renameStatements() []string {
	statements := []string{
		"ALTER TABLE items RENAME COLUMN proof TO verification",
		"ALTER TABLE pairs RENAME COLUMN proof TO verification",
		"ALTER TABLE certificate_files RENAME COLUMN proof TO verification",
		"ALTER TABLE runs RENAME COLUMN released TO approved",
		"ALTER TABLE notices RENAME TO notifications",
		"UPDATE notifications SET channel = 'email' WHERE channel = 'mail'",
		"UPDATE meta SET name = 'bandwidth' WHERE name = 'pace'",
		"UPDATE definitions SET text = replace(replace(text, 'proof: true', 'verification: true'), 'is: lapsed', 'is: sign-in-expired')",
	}
	var was, cases []string
	for from, to := range renamedValues {
		was, cases = append(was, "'"+from+"'"), append(cases, "WHEN '"+from+"' THEN '"+to+"'")
	}
	slices.Sort(was)
	slices.Sort(cases)
	for table, columns := range map[string][]string{"items": {"cause"}, "runs": {"cause", "step"}, "certificate_files": {"cause"},
		"link_events": {"what"}} {
		for _, column := range columns {
			statements = append(statements, fmt.Sprintf("UPDATE %s SET %s = CASE %s %s ELSE %s END WHERE %s IN (%s)",
				table, column, column, strings.Join(cases, " "), column, column, strings.Join(was, ", ")))
		}
	}
	return append(statements, "DROP INDEX link_events_ended",
		"CREATE INDEX link_events_unlinked ON link_events (at, account) WHERE what = 'unlinked'")
}

// renameIn rewrites the JSON of one column, a page of rows at a time.
func renameIn(tx *gorm.DB, table, key, column string) error {
	const page = 500
	query := fmt.Sprintf("SELECT %s AS key, %s AS text FROM %s WHERE %s LIKE '{%%' ORDER BY %s LIMIT %d", key, column, table, column, key,
		page)
	after := fmt.Sprintf("SELECT %s AS key, %s AS text FROM %s WHERE %s > ? AND %s LIKE '{%%' ORDER BY %s LIMIT %d", key, column, table, key,
		column, key, page)
	for args := []any{}; ; query = after {
		var rows []storedText
		if err := tx.Raw(query, args...).Scan(&rows).Error; err != nil {
			return err
		}
		if err := renameRows(tx, table, key, column, rows); err != nil || len(rows) < page {
			return err
		}
		args = []any{rows[page-1].Key}
	}
}

// storedText is the JSON of one row.
type storedText struct{ Key, Text string }

func renameRows(tx *gorm.DB, table, key, column string, rows []storedText) error {
	for _, row := range rows {
		if table == "meta" && row.Key != "notices" {
			continue
		}
		text, err := renamedJSON([]byte(row.Text))
		if err != nil {
			return fmt.Errorf("rewriting %s of %s %s: %w", column, table, row.Key, err)
		}
		if err := tx.Exec(fmt.Sprintf("UPDATE %s SET %s = ? WHERE %s = ?", table, column, key), string(text), row.Key).Error; err != nil {
			return err
		}
	}
	return nil
}

// renamedKeys are what keys were called, in snake case, and are now.
var renamedKeys = map[string]string{
	"clash": "conflict", "leave_out": "exclude", "left_out": "excluded", "folders_left_out": "folders_excluded", "only": "include",
	"proof": "verify", "prove_all": "verify_all", "pace": "bandwidth", "brake": "safety", "proven": "verified", "unproven": "unverified",
	"mail": "email", "lanes": "parallel",
}

// renamedTexts are the values of keys, by their present names.
var renamedTexts = map[string]map[string]string{
	"conflict": {"leave": "target"}, "deletions": {"retire": "keep-version", "follow": "delete"}, "verify": {"readback": "read-back"},
}

var inner = regexp.MustCompile(`([a-z0-9])([A-Z])`)

func renamedJSON(text []byte) ([]byte, error) {
	var value map[string]any
	decoder := json.NewDecoder(strings.NewReader(string(text)))
	decoder.UseNumber()
	if err := decoder.Decode(&value); err != nil {
		return nil, err
	}
	return json.Marshal(rename(value, ""))
}

// rename returns a value of JSON with its keys renamed. in is the key that holds it.
func rename(value any, in string) any {
	switch value := value.(type) {
	case []any:
		for i := range value {
			value[i] = rename(value[i], "")
		}
		return value
	case map[string]any:
		if in == "hours" {
			return renamedHours(value)
		}
		now := map[string]any{}
		for key, one := range value {
			if in != "documents" && in != "sealed_secrets" {
				key = strings.ToLower(inner.ReplaceAllString(key, "${1}_$2"))
				if to, ok := renamedKeys[key]; ok {
					key = to
				}
			}
			now[key] = rename(one, key)
		}
		if patterns, flat := now["include"].([]any); flat && in == "rules" {
			nestFilters(now, patterns)
		}
		return now
	case string:
		if to, ok := renamedTexts[in][value]; ok {
			return to
		}
	}
	return value
}

// nestFilters puts the filters of a certificate's rules, which were beside the others, into
// include.
func nestFilters(rules map[string]any, patterns []any) {
	include := map[string]any{"patterns": patterns}
	for _, key := range []string{"types", "smaller_than", "larger_than", "newer_than", "older_than"} {
		if value, ok := rules[key]; ok {
			include[key] = value
			delete(rules, key)
		}
	}
	rules["include"] = include
}

// renamedHours turns the former object of limits by hours of the week into a list.
func renamedHours(hours map[string]any) any {
	list := []any{}
	for when, rate := range hours {
		list = append(list, map[string]any{"when": when, "rate": rate})
	}
	slices.SortFunc(list, func(a, b any) int {
		return strings.Compare(a.(map[string]any)["when"].(string), b.(map[string]any)["when"].(string))
	})
	return list
}
