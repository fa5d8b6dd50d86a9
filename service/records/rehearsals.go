package records

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// rehearsalSchema has the rehearsals of jobs, with what became of each file.
var rehearsalSchema = []string{
	`CREATE TABLE rehearsals (number INTEGER PRIMARY KEY, job TEXT NOT NULL, at DATETIME NOT NULL, started_at DATETIME NOT NULL,
		ended_at DATETIME, seed INTEGER NOT NULL, everything INTEGER NOT NULL, files INTEGER NOT NULL, bytes INTEGER NOT NULL,
		of_files INTEGER NOT NULL, of_bytes INTEGER NOT NULL, by_size INTEGER NOT NULL, failed INTEGER NOT NULL, why TEXT NOT NULL,
		outcomes TEXT NOT NULL)`,
	"CREATE INDEX rehearsals_job ON rehearsals (job, number)",
}

// Rehearsal is a rehearsal of restoring what a job keeps at its targets.
type Rehearsal struct {
	Number    int64 `gorm:"primaryKey"`
	Job       string
	At        time.Time // the state that is restored
	StartedAt time.Time
	EndedAt   *time.Time
	Seed      int64 // of the choice
	// Everything is set if all files were restored, not a choice of them.
	Everything bool
	Files      int64 // restored and compared
	Bytes      int64
	OfFiles    int64 // all that there are
	OfBytes    int64
	BySize     int64 // of which no hash was recorded
	Failed     int64
	Why        string // why it broke off; empty if it did not
	// Outcomes are the results of a choice of files, or the first failures.
	Outcomes []RehearsedFile `gorm:"serializer:json"`
}

// RehearsedFile is what became of one file.
type RehearsedFile struct {
	Address string `json:"address"`
	Size    int64  `json:"size"`
	Chosen  string `json:"chosen"`
	Hash    string `json:"hash,omitempty"`
	Why     string `json:"why,omitempty"` // why it failed
}

// Passed reports whether every restored file has its recorded content.
func (r Rehearsal) Passed() bool { return r.EndedAt != nil && r.Failed == 0 && r.Why == "" }

// SaveRehearsal adds a rehearsal, or overwrites it.
func (db *DB) SaveRehearsal(ctx context.Context, rehearsal *Rehearsal) error {
	return db.write.WithContext(ctx).Save(rehearsal).Error
}

// mostRehearsals is how many of a job are listed; older ones are kept.
const mostRehearsals = 100

// Rehearsals returns the rehearsals of a job, newest first.
func (db *DB) Rehearsals(ctx context.Context, job string) (rehearsals []Rehearsal, err error) {
	err = db.read.WithContext(ctx).Where("job = ?", job).Order("number DESC").Limit(mostRehearsals).Find(&rehearsals).Error
	return rehearsals, err
}

// LastRehearsal returns the last of a job; nil where there is none.
func (db *DB) LastRehearsal(ctx context.Context, job string) (*Rehearsal, error) {
	var last Rehearsal
	err := db.read.WithContext(ctx).Where("job = ?", job).Order("number DESC").Limit(1).Take(&last).Error
	if err == gorm.ErrRecordNotFound {
		return nil, nil
	}
	return &last, err
}

// EndRehearsals ends the rehearsals that an earlier process began.
func (db *DB) EndRehearsals(ctx context.Context) error {
	return db.write.WithContext(ctx).Exec("UPDATE rehearsals SET ended_at = started_at, why = 'the service ended meanwhile' WHERE " +
		"ended_at IS NULL").Error
}
