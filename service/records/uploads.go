package records

import (
	"context"
	"database/sql"
	"errors"

	"deftheron/core/store"
	"deftheron/core/transfer"
)

// openUploadSchema keeps the uploads that are open at services, of accounts whose service
// cannot list them.
var openUploadSchema = []string{
	"CREATE TABLE open_uploads (id INTEGER PRIMARY KEY, account TEXT NOT NULL, process TEXT NOT NULL, sealed BLOB NOT NULL)",
	"CREATE INDEX open_uploads_of ON open_uploads (account)",
}

// OpenUpload is an upload that has started and not ended yet.
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

// SaveUpload implements transfer.Records.
func (db *DB) SaveUpload(ctx context.Context, run string, seq int64, upload transfer.Upload) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM parts WHERE run = "+numberOf+" AND seq = ?", run, seq); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO uploads (run, seq, upload, revision, part_size) VALUES ("+numberOf+", ?, ?, ?, ?)",
			run, seq, upload.ID, upload.Revision, upload.PartSize)
		return err
	})
}

// SavePart implements transfer.Records.
func (db *DB) SavePart(ctx context.Context, run string, seq int64, part store.Part) error {
	return db.write.WithContext(ctx).Exec("INSERT OR REPLACE INTO parts (run, seq, number, size, tag, hash) VALUES ("+numberOf+
		", ?, ?, ?, ?, ?)",
		run, seq, part.Number, part.Size, part.Tag, part.Hash).Error
}

// LoadUpload implements transfer.Records.
func (db *DB) LoadUpload(ctx context.Context, run string, seq int64) (upload transfer.Upload, ok bool, err error) {
	err = db.readPool.QueryRowContext(ctx, "SELECT upload, revision, part_size FROM uploads WHERE run = "+numberOf+" AND seq = ?", run, seq).
		Scan(&upload.ID, &upload.Revision, &upload.PartSize)
	if errors.Is(err, sql.ErrNoRows) {
		return upload, false, nil
	}
	if err != nil {
		return upload, false, err
	}
	err = db.read.WithContext(ctx).Raw("SELECT number, size, tag, hash FROM parts WHERE run = "+numberOf+" AND seq = ? ORDER BY number", run,
		seq).
		Scan(&upload.Parts).Error
	return upload, true, err
}

// DropUpload implements transfer.Records.
func (db *DB) DropUpload(ctx context.Context, run string, seq int64) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"parts", "uploads"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE run = "+numberOf+" AND seq = ?", run, seq); err != nil {
				return err
			}
		}
		return nil
	})
}

// Uploads implements transfer.Records.
func (db *DB) Uploads(ctx context.Context, run string) ([]transfer.PendingUpload, error) {
	number, err := db.number(ctx, run)
	if err != nil {
		return nil, err
	}
	rows, err := db.readPool.QueryContext(ctx, `SELECT `+itemColumns+`, upload FROM items JOIN uploads USING (run, seq)
		WHERE items.run = ? AND state = 'waiting' ORDER BY seq`, number)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var pending []transfer.PendingUpload
	for rows.Next() {
		var one transfer.PendingUpload
		if err := rows.Scan(append(scanItem(&one.Item), &one.Upload.ID)...); err != nil {
			return nil, err
		}
		restoreItem(&one.Item)
		pending = append(pending, one)
	}
	return pending, rows.Err()
}
