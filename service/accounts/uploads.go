package accounts

import (
	"context"
	"crypto/rand"

	"deftheron/core/store"
	"deftheron/service/records"
)

// process tells the uploads that this process began from those that a former one left.
var process = rand.Text()

// uploads keeps the open uploads of an account. What it takes to give one up may open it
// to others too, so that it is sealed like a secret.
type uploads struct {
	accounts *Accounts
	account  string
}

func (u *uploads) purpose() string { return "uploads of " + u.account }

// Keep implements store.Uploads.
func (u *uploads) Keep(ctx context.Context, upload []byte) (int64, error) {
	return u.accounts.db.KeepOpenUpload(ctx,
		records.OpenUpload{Account: u.account, Process: process, Sealed: u.accounts.sealer.Seal(u.purpose(), upload)})
}

// Drop implements store.Uploads.
func (u *uploads) Drop(ctx context.Context, id int64) error {
	return u.accounts.db.DropOpenUpload(ctx, id)
}

// Abandoned implements store.Uploads.
func (u *uploads) Abandoned(ctx context.Context) (map[int64][]byte, error) {
	kept, err := u.accounts.db.AbandonedUploads(ctx, u.account, process)
	abandoned := map[int64][]byte{}
	for _, upload := range kept {
		text, err := u.accounts.sealer.Open(u.purpose(), upload.Sealed)
		if err != nil { // by a key that is gone: nothing can be done about it any more
			if err := u.Drop(ctx, upload.ID); err != nil {
				return nil, err
			}
			continue
		}
		abandoned[upload.ID] = text
	}
	return abandoned, err
}

var _ store.Uploads = (*uploads)(nil)
