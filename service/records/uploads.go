package records

import "context"

// openUploadSchema keeps the uploads that are open at services, of accounts whose service
// cannot list them.
var openUploadSchema = []string{
	"CREATE TABLE open_uploads (id INTEGER PRIMARY KEY, account TEXT NOT NULL, process TEXT NOT NULL, sealed BLOB NOT NULL)",
	"CREATE INDEX open_uploads_of ON open_uploads (account)",
}

// OpenUpload is one that was begun and did not end yet.
type OpenUpload struct {
	ID      int64
	Account string // its id
	Process string // of the service that began it
	Sealed  []byte // what it takes to give it up
}

// KeepOpenUpload keeps an open upload and returns its id.
func (db *DB) KeepOpenUpload(ctx context.Context, upload OpenUpload) (int64, error) {
	err := db.write.WithContext(ctx).Create(&upload).Error
	return upload.ID, err
}

// DropOpenUpload forgets one that ended.
func (db *DB) DropOpenUpload(ctx context.Context, id int64) error {
	return db.write.WithContext(ctx).Delete(&OpenUpload{ID: id}).Error
}

// AbandonedUploads are those of an account that other processes than this one left open.
func (db *DB) AbandonedUploads(ctx context.Context, account, process string) (uploads []OpenUpload, err error) {
	err = db.read.WithContext(ctx).Where("account = ? AND process <> ?", account, process).Order("id").Find(&uploads).Error
	return uploads, err
}
