package records

import (
	"context"
	"time"
)

// KeptJobs returns the jobs that are kept, by name.
func (db *DB) KeptJobs(ctx context.Context) (jobs []Job, err error) {
	err = db.read.WithContext(ctx).Where("once = 0").Order("name").Find(&jobs).Error
	return jobs, err
}

// KeptJob returns a job that is kept.
func (db *DB) KeptJob(ctx context.Context, name string) (job Job, err error) {
	err = db.read.WithContext(ctx).Where("once = 0 AND name = ?", name).First(&job).Error
	return job, found(err)
}

// AddJob keeps a job. ErrTaken where its name is in use.
func (db *DB) AddJob(ctx context.Context, job *Job) error {
	return found(db.write.WithContext(ctx).Create(job).Error)
}

// ChangeJob keeps a job as it is now.
func (db *DB) ChangeJob(ctx context.Context, job Job) error {
	return found(db.write.WithContext(ctx).Model(&job).Select("routes", "spec", "type", "rules", "suspended", "seen_at",
		"changed_at", "owner").Updates(job).Error)
}

// SawJob keeps up to when a job's timetable was seen to.
func (db *DB) SawJob(ctx context.Context, id string, at time.Time) error {
	return db.write.WithContext(ctx).Exec("UPDATE jobs SET seen_at = ? WHERE id = ?", at, id).Error
}

// RemoveJob forgets a job; its runs stay.
func (db *DB) RemoveJob(ctx context.Context, id string) error {
	return db.write.WithContext(ctx).Exec("DELETE FROM jobs WHERE id = ?", id).Error
}

// AddRunOf adds a run of a job that is kept.
func (db *DB) AddRunOf(ctx context.Context, run *Run) error {
	return found(db.write.WithContext(ctx).Create(run).Error)
}

// LastRun returns the latest run of a job; ErrNotFound where it has had none.
func (db *DB) LastRun(ctx context.Context, job string) (run Run, err error) {
	err = db.read.WithContext(ctx).Where("job = ?", job).Order("number DESC").First(&run).Error
	return run, found(err)
}

// OpenRunOf returns the run of a job that has not ended; ErrNotFound where there is
// none.
func (db *DB) OpenRunOf(ctx context.Context, job string) (run Run, err error) {
	err = db.read.WithContext(ctx).Table("runs INDEXED BY runs_open").Where("job = ? AND ended_at IS NULL",
		job).Order("number").Take(&run).Error
	return run, found(err)
}

// OwnerOfJob returns the id of the user in whose name a job of a name runs, or a copy that was
// started by itself.
func (db *DB) OwnerOfJob(ctx context.Context, name string) (owner string, err error) {
	var row Job
	err = db.read.WithContext(ctx).Select("owner").Where("name = ?", name).First(&row).Error
	return row.Owner, found(err)
}
