package files

import (
	"context"
	"time"

	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
)

// Expire removes what runs that began before a moment have moved to history in an
// account. An account without such a folder has nothing of it. What cannot be removed
// stays for the next time.
func Expire(ctx context.Context, s store.Store, before time.Time) (removed Count, err error) {
	folders, err := retry.Read(ctx, func() (folders []store.Ref, err error) {
		for entry, err := range s.List(ctx, store.Folder{Path: plan.HistoryFolder}) {
			if err != nil {
				return nil, err
			}
			if began, ok := plan.HistoryAt(entry.Name); ok && entry.Kind == store.KindFolder && began.Before(before) {
				folders = append(folders, entry.Ref(store.Folder{Path: plan.HistoryFolder}).As(store.KindFolder))
			}
		}
		return folders, nil
	})
	if store.KindOf(err) == store.ErrNotFound {
		return removed, nil
	}
	if err != nil {
		return removed, err
	}
	for _, folder := range folders {
		agreed, err := Survey(ctx, s, folder)
		if err != nil {
			return removed, err
		}
		gone, err := Remove(ctx, s, folder, agreed)
		removed.Add(gone.Count)
		if err != nil {
			return removed, err
		}
	}
	return removed, nil
}
