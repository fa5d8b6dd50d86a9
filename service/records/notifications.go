package records

import (
	"context"
	"time"
)

// Notification is a word to people, to be sent by one channel.
type Notification struct {
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

// AddNotifications keeps words to be sent.
func (db *DB) AddNotifications(ctx context.Context, notifications []Notification) error {
	return db.write.WithContext(ctx).Create(&notifications).Error
}

// DueNotifications returns the notifications to send, oldest first.
func (db *DB) DueNotifications(ctx context.Context, now time.Time) (notifications []Notification, err error) {
	err = db.read.WithContext(ctx).Table("notifications INDEXED BY notices_due").Where("sent_at IS NULL AND given_up = 0 AND due_at <= ?",
		now).Order("seq").Limit(500).Find(&notifications).Error
	return notifications, err
}

// NextNotification is when the next is due; zero where none is.
func (db *DB) NextNotification(ctx context.Context) (time.Time, error) {
	var next []Notification
	err := db.read.WithContext(ctx).Where("sent_at IS NULL AND given_up = 0").Order("due_at").Limit(1).Find(&next).Error
	if err != nil || len(next) == 0 {
		return time.Time{}, err
	}
	return next[0].DueAt, nil
}

// SaveNotification keeps what became of one.
func (db *DB) SaveNotification(ctx context.Context, notification Notification) error {
	return db.write.WithContext(ctx).Model(&notification).Select("tries", "due_at", "sent_at", "given_up", "why").Updates(notification).Error
}

// Notifications returns the latest, newest first.
func (db *DB) Notifications(ctx context.Context, most int) (notifications []Notification, err error) {
	err = db.read.WithContext(ctx).Order("seq DESC").Limit(most).Find(&notifications).Error
	return notifications, err
}

// ForgetNotifications removes those that were sent, or given up, before a moment.
func (db *DB) ForgetNotifications(ctx context.Context, before time.Time) error {
	return db.write.WithContext(ctx).Exec("DELETE FROM notifications WHERE at < ? AND (sent_at IS NOT NULL OR given_up)", before).Error
}
