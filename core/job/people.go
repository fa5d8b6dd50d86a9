package job

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/mail"
	"slices"
	"strings"

	"deftheron/core/remedy"
)

// MostPeople is how many people a table may name.
const MostPeople = 10_000

// People is the table of who is who: who has an address at the source has which at the
// target. An empty one leaves them out.
type People map[string]string

// Becomes returns the address at the target of a person of the source; ok is false if the
// table does not name them. Letter case does not count.
func (p People) Becomes(person string) (becomes string, ok bool) {
	if becomes, ok = p[person]; ok {
		return becomes, true
	}
	becomes, ok = p[strings.ToLower(person)]
	return becomes, ok
}

// Normal returns the table with its addresses in lower case, or what is wrong with it.
func (p People) Normal() (People, error) {
	if len(p) > MostPeople {
		return nil, remedy.Errorf("the table of people has %d rows; it may have %d; split the migration", len(p), MostPeople)
	}
	normal := make(People, len(p))
	for _, old := range slices.Sorted(maps.Keys(p)) {
		from, to := strings.ToLower(strings.TrimSpace(old)), strings.ToLower(strings.TrimSpace(p[old]))
		for _, one := range []string{from, to} {
			if one == to && to == "" {
				continue
			}
			if parsed, err := mail.ParseAddress(one); err != nil || parsed.Address != one {
				return nil, remedy.Errorf("%q in the table of people is not an email address; write one, as in ranger-01@fenmere.example", one)
			}
		}
		if other, twice := normal[from]; twice && other != to {
			return nil, remedy.Errorf("the table of people says both %q and %q of %s; remove one of the two rows", other, to, from)
		}
		normal[from] = to
	}
	return normal, nil
}

// peopleHeader is the first row of a table in CSV.
var peopleHeader = []string{"old", "new"}

func isHeader(row []string) bool {
	return len(row) >= 2 && strings.EqualFold(row[0], peopleHeader[0]) && strings.EqualFold(row[1], peopleHeader[1])
}

// ReadPeople reads a table (RFC 4180) with the columns old and new, in this order, and any
// others after them. An empty second column leaves a person out.
func ReadPeople(r io.Reader) (People, error) {
	all, err := io.ReadAll(io.LimitReader(r, 4<<20+1))
	if err != nil {
		return nil, err
	}
	if len(all) > 4<<20 {
		return nil, remedy.Errorf("the table of people is larger than 4 MiB; it may have %d rows", MostPeople)
	}
	table := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(all, []byte("\ufeff"))))
	table.FieldsPerRecord = -1
	first, err := table.Read()
	if errors.Is(err, io.EOF) || err == nil && !isHeader(first) {
		return nil, remedy.Errorf("the table of people does not begin with the columns old,new; write them as its first row")
	}
	people, lines := People{}, map[string]int{}
	for err == nil {
		var row []string
		if row, err = table.Read(); err != nil {
			break
		}
		line, _ := table.FieldPos(0)
		if len(row) < 2 {
			return nil, remedy.Errorf("line %d of the table of people has one column; write old,new", line)
		}
		old := strings.ToLower(strings.TrimSpace(row[0]))
		if before, twice := lines[old]; twice {
			return nil, remedy.Errorf("line %d of the table of people names %s, as line %d does; remove one", line, old, before)
		}
		if _, err := (People{row[0]: row[1]}).Normal(); err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		lines[old], people[old] = line, row[1]
	}
	if !errors.Is(err, io.EOF) {
		return nil, remedy.Errorf("the table of people is not CSV: %w; write old,new and a row for each person", err)
	}
	return people.Normal()
}
