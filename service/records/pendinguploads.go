package records

import "context"

// PendingUpload is a file that is on its way from outside: should the process end, it
// tells where something of ours may be left.
type PendingUpload struct {
	Run     string `gorm:"primaryKey"` // marks what is left
	Address string
}

// TableName implements gorm's Tabler.
func (PendingUpload) TableName() string { return "arrivals" }

// AddPendingUpload keeps an upload until it has ended.
func (db *DB) AddPendingUpload(ctx context.Context, upload PendingUpload) error {
	return db.write.WithContext(ctx).Create(&upload).Error
}

// EndPendingUpload forgets an upload.
func (db *DB) EndPendingUpload(ctx context.Context, run string) error {
	return db.write.WithContext(ctx).Delete(&PendingUpload{Run: run}).Error
}

// PendingUploads returns those that have not ended.
func (db *DB) PendingUploads(ctx context.Context) (uploads []PendingUpload, err error) {
	return uploads, db.read.WithContext(ctx).Find(&uploads).Error
}
