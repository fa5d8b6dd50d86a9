package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"iter"
	"time"
)

// Certificate is the certificate of a final pass of a migration. Head is JSON, without
// the digest.
type Certificate struct {
	Run    int64 `gorm:"primaryKey"`
	MadeAt time.Time
	Head   json.RawMessage
	Digest string
}

// CertifiedFile is a file of a certificate.
type CertifiedFile struct {
	Folder       string // its folder's address at the source
	Address      string // at the source
	Target       string
	Size         int64
	Verification string
	Digest       string // BLAKE3
	Cause        string
	By           string // the run that brought it
}

// CertifiedFolder is how much a folder of a source holds by itself.
type CertifiedFolder struct {
	Folder   string
	Files    int64
	Bytes    int64
	Verified int64
}

var certificateSchema = []string{
	"ALTER TABLE runs ADD COLUMN step TEXT NOT NULL DEFAULT ''",
	"CREATE TABLE surveys (run INTEGER NOT NULL, route INTEGER NOT NULL, survey TEXT NOT NULL, PRIMARY KEY (run, route)) WITHOUT ROWID",
	"CREATE TABLE certificates (run INTEGER PRIMARY KEY, made_at DATETIME NOT NULL, head TEXT NOT NULL, digest TEXT NOT NULL)",
	`CREATE TABLE certificate_files (
		run INTEGER NOT NULL, seq INTEGER NOT NULL, folder TEXT NOT NULL, address TEXT NOT NULL, target TEXT NOT NULL,
		size INTEGER NOT NULL, proof TEXT NOT NULL, cause TEXT NOT NULL, by TEXT NOT NULL, PRIMARY KEY (run, seq)) WITHOUT ROWID`,
	`CREATE TABLE papers (
		sha256 TEXT PRIMARY KEY, run TEXT NOT NULL, kind TEXT NOT NULL, format TEXT NOT NULL, at DATETIME NOT NULL) WITHOUT ROWID`,
}

// ForgetCertificate removes the certificate of a run, before another is made.
func (db *DB) ForgetCertificate(ctx context.Context, run int64) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"certificates", "certificate_files", "certificate_shares"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE run = ?", run); err != nil {
				return err
			}
		}
		return nil
	})
}

// AddCertified adds files to a certificate that is being made; the first has the
// number from.
func (db *DB) AddCertified(ctx context.Context, run, from int64, files []CertifiedFile) error {
	return db.each(ctx, "INSERT INTO certificate_files (run, seq, folder, address, target, size, verification, cause, by, digest) VALUES "+
		"(?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", len(files), func(i int) []any {
		f := &files[i]
		return []any{run, from + int64(i), f.Folder, f.Address, f.Target, f.Size, f.Verification, f.Cause, f.By, f.Digest}
	})
}

// AddCertificate keeps a certificate whose files are all there.
func (db *DB) AddCertificate(ctx context.Context, certificate Certificate) error {
	return db.write.WithContext(ctx).Create(&certificate).Error
}

// Certificate returns the certificate of a run; ErrNotFound if it has none.
func (db *DB) Certificate(ctx context.Context, run int64) (certificate Certificate, err error) {
	err = db.read.WithContext(ctx).Where("run = ?", run).First(&certificate).Error
	return certificate, found(err)
}

// Certified yields the files of a certificate in order. unverified yields those alone
// that are not verified.
func (db *DB) Certified(ctx context.Context, run int64, unverified bool) iter.Seq2[CertifiedFile, error] {
	return func(yield func(CertifiedFile, error) bool) {
		const page = 2000
		where := ""
		if unverified {
			where = " AND verification = ''"
		}
		for after := int64(-1); ; {
			var files []struct {
				CertifiedFile
				Seq int64
			}
			err := db.read.WithContext(ctx).Raw("SELECT * FROM certificate_files WHERE run = ? AND seq > ?"+where+" ORDER BY seq LIMIT ?", run,
				after, page).Scan(&files).Error
			if err != nil {
				yield(CertifiedFile{}, err)
				return
			}
			for _, file := range files {
				if !yield(file.CertifiedFile, nil) {
					return
				}
				after = file.Seq
			}
			if len(files) < page {
				return
			}
		}
	}
}

// CertifiedFolders yields the folders of a certificate by their addresses.
func (db *DB) CertifiedFolders(ctx context.Context, run int64) iter.Seq2[CertifiedFolder, error] {
	return func(yield func(CertifiedFolder, error) bool) {
		rows, err := db.readPool.QueryContext(ctx, `SELECT folder, count(*), sum(max(size, 0)), sum(verification <> '')
			FROM certificate_files WHERE run = ? GROUP BY folder ORDER BY folder`, run)
		if err != nil {
			yield(CertifiedFolder{}, err)
			return
		}
		defer rows.Close()
		for rows.Next() {
			var one CertifiedFolder
			if err := rows.Scan(&one.Folder, &one.Files, &one.Bytes, &one.Verified); !yield(one, err) || err != nil {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(CertifiedFolder{}, err)
		}
	}
}

// SaveSurvey keeps the survey of a route of a run, as JSON.
func (db *DB) SaveSurvey(ctx context.Context, run int64, route int, survey []byte) error {
	return db.write.WithContext(ctx).Exec("INSERT OR REPLACE INTO surveys (run, route, survey) VALUES (?, ?, ?)", run, route,
		string(survey)).Error
}

// Surveys returns the surveys of a run, by its routes.
func (db *DB) Surveys(ctx context.Context, run int64) (surveys []string, err error) {
	err = db.read.WithContext(ctx).Raw("SELECT survey FROM surveys WHERE run = ? ORDER BY route", run).Scan(&surveys).Error
	return surveys, err
}

// Paper is something that was handed out, by the SHA-256 of its bytes.
type Paper struct {
	SHA256 string `gorm:"primaryKey;column:sha256"`
	Run    string
	Kind   string
	Format string
	At     time.Time
}

// AddPaper keeps that a paper was handed out; the first time counts.
func (db *DB) AddPaper(ctx context.Context, paper Paper) error {
	return db.write.WithContext(ctx).Exec("INSERT OR IGNORE INTO papers (sha256, run, kind, format, at) VALUES (?, ?, ?, ?, ?)",
		paper.SHA256, paper.Run, paper.Kind, paper.Format, paper.At).Error
}

// Paper returns the report or certificate with a hash; ErrNotFound if there is none.
func (db *DB) Paper(ctx context.Context, sha256 string) (paper Paper, err error) {
	err = db.read.WithContext(ctx).Where("sha256 = ?", sha256).First(&paper).Error
	return paper, found(err)
}

// RunsOf returns the latest runs of a job, the oldest first.
func (db *DB) RunsOf(ctx context.Context, job string, most int) (runs []Run, err error) {
	err = db.read.WithContext(ctx).Raw("SELECT * FROM (SELECT * FROM runs WHERE job = ? ORDER BY number DESC LIMIT ?) ORDER BY number", job,
		most).Scan(&runs).Error
	return runs, err
}
