package records

import (
	"context"
	"iter"
)

// CertifiedShare is a right of a share list that a migration could not carry over as it was.
type CertifiedShare struct {
	Address string // at the source
	Target  string
	Kind    string
	Person  string
	Becomes string
	Level   string
	Cause   string
}

var sharesSchema = []string{`CREATE TABLE certificate_shares (
	run INTEGER NOT NULL, seq INTEGER NOT NULL, address TEXT NOT NULL, target TEXT NOT NULL, kind TEXT NOT NULL,
	person TEXT NOT NULL, becomes TEXT NOT NULL, level TEXT NOT NULL, cause TEXT NOT NULL, PRIMARY KEY (run, seq)) WITHOUT ROWID`}

// AddCertifiedShares adds rights to a certificate that is being made; the first has the
// number from.
func (db *DB) AddCertifiedShares(ctx context.Context, run, from int64, shares []CertifiedShare) error {
	return db.each(ctx, "INSERT INTO certificate_shares (run, seq, address, target, kind, person, becomes, level, cause) VALUES "+
		"(?, ?, ?, ?, ?, ?, ?, ?, ?)", len(shares), func(i int) []any {
		s := &shares[i]
		return []any{run, from + int64(i), s.Address, s.Target, s.Kind, s.Person, s.Becomes, s.Level, s.Cause}
	})
}

// CertifiedShares yields the rights of a certificate that were not carried over as they
// were, in order.
func (db *DB) CertifiedShares(ctx context.Context, run int64) iter.Seq2[CertifiedShare, error] {
	return func(yield func(CertifiedShare, error) bool) {
		const page = 2000
		for after := int64(-1); ; {
			var rows []struct {
				CertifiedShare
				Seq int64
			}
			err := db.read.WithContext(ctx).Raw("SELECT * FROM certificate_shares WHERE run = ? AND seq > ? ORDER BY seq LIMIT ?", run, after,
				page).Scan(&rows).Error
			if err != nil {
				yield(CertifiedShare{}, err)
				return
			}
			for _, row := range rows {
				if !yield(row.CertifiedShare, nil) {
					return
				}
				after = row.Seq
			}
			if len(rows) < page {
				return
			}
		}
	}
}
