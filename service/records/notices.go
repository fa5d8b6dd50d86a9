package records

import (
	"context"
	"time"
)

// Notice is a word to people, to be sent by one channel.
type Notice struct {
	Seq     int64 `gorm:"primaryKey"`
	At      time.Time
	Event   string
	Subject string
	Text    string
	Payload string
	Channel string
	Tries   int
	DueAt   time.Time
	SentAt  *time.Time
	GivenUp bool
	Why     string
}

// AddNotices keeps words to be sent.
func (db *DB) AddNotices(ctx context.Context, notices []Notice) error {
	return db.write.WithContext(ctx).Create(&notices).Error
}

// DueNotices returns those that are to be sent, oldest first.
func (db *DB) DueNotices(ctx context.Context, now time.Time) (notices []Notice, err error) {
	err = db.read.WithContext(ctx).Table("notices INDEXED BY notices_due").Where("sent_at IS NULL AND given_up = 0 AND due_at <= ?", now).Order("seq").Limit(500).Find(&notices).Error
	return notices, err
}

// NextNotice is when the next is due; zero where none is.
func (db *DB) NextNotice(ctx context.Context) (time.Time, error) {
	var next []Notice
	err := db.read.WithContext(ctx).Where("sent_at IS NULL AND given_up = 0").Order("due_at").Limit(1).Find(&next).Error
	if err != nil || len(next) == 0 {
		return time.Time{}, err
	}
	return next[0].DueAt, nil
}

// SaveNotice keeps what became of one.
func (db *DB) SaveNotice(ctx context.Context, notice Notice) error {
	return db.write.WithContext(ctx).Model(&notice).Select("tries", "due_at", "sent_at", "given_up", "why").Updates(notice).Error
}

// Notices returns the latest, newest first.
func (db *DB) Notices(ctx context.Context, most int) (notices []Notice, err error) {
	err = db.read.WithContext(ctx).Order("seq DESC").Limit(most).Find(&notices).Error
	return notices, err
}

// ForgetNotices removes those that were sent, or given up, before a moment.
func (db *DB) ForgetNotices(ctx context.Context, before time.Time) error {
	return db.write.WithContext(ctx).Exec("DELETE FROM notices WHERE at < ? AND (sent_at IS NOT NULL OR given_up)", before).Error
}
