package annotations

import (
	"context"
	"errors"
	"slices"
	"time"

	"deftheron/core/annotation"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// AddressOf returns where an annotated entry is, or was, in the tree.
func (a *Annotations) AddressOf(ctx context.Context, one *records.Annotated) (store.Address, error) {
	name, err := a.accountName(ctx, one.Account)
	return addressOf(name, one), err
}

// Cursor is the end of a page of annotated entries.
type Cursor struct {
	Account  string     `json:"a"` // its id
	Folder   store.Path `json:"f"`
	Name     string     `json:"n"`
	IsFolder bool       `json:"d"`
	ID       int64      `json:"i,omitempty"` // of those with a tag
}

// mostLooked is how many entries are read for a page. If the user does not see all of them,
// a page may have fewer entries than it could.
const mostLooked = 5000

// Below returns a page of the annotated entries in a folder, itself included, or in all
// accounts, as far as the scope of the context shows them, and the cursor of the next page,
// nil at the end. With a tag, it returns only entries that have it.
func (a *Annotations) Below(ctx context.Context, folder store.Address, tag string, after Cursor, most int) (found []Entry, next *Cursor,
	err error) {
	names, err := a.accountNames(ctx)
	if err != nil {
		return nil, nil, err
	}
	if after == (Cursor{}) && tag == "" {
		if found, err = a.itself(ctx, folder); err != nil {
			return nil, nil, err
		}
	}
	for looked := 0; looked < mostLooked; {
		rows, err := a.rowsAfter(ctx, folder, tag, after)
		if err != nil {
			return nil, nil, err
		}
		for i := range rows {
			row := &rows[i]
			after = Cursor{Account: row.Account, Folder: row.Folder, Name: row.Name, IsFolder: row.IsFolder, ID: row.ID}
			looked++
			name, linked := names[row.Account]
			if !linked || !row.Placed() {
				continue
			}
			address := addressOf(name, row)
			if folder.Contains(address) && tree.Sees(ctx, address) == tree.Seen {
				a.dropExpired(row)
				if found = append(found, Entry{Annotated: *row, Address: address}); len(found) == most {
					return found, &after, nil
				}
			}
		}
		if len(rows) == 0 {
			return found, nil, nil
		}
	}
	return found, &after, nil
}

// Known returns the annotations of the entry at an address, without a request to its account.
func (a *Annotations) Known(ctx context.Context, address store.Address, kind store.Kind) (one records.Annotated, err error) {
	place, ok := address.Place()
	if !ok || address.IsRoot() {
		return one, nil
	}
	account, err := a.AccountID(ctx, address.Account)
	if err != nil {
		return one, err
	}
	if has, err := a.hasSome(ctx, account); err != nil || !has {
		return one, err
	}
	one, err = a.db.AnnotatedAt(ctx, account, place.As(kind))
	if errors.Is(err, records.ErrNotFound) {
		return one, nil
	}
	if err == nil {
		filled := []records.Annotated{one}
		err = a.db.FillAnnotated(ctx, filled)
		one = filled[0]
	}
	return one, err
}

// itself returns the annotated entries at an address.
func (a *Annotations) itself(ctx context.Context, address store.Address) (found []Entry, err error) {
	place, ok := address.Place()
	if !ok || address.IsRoot() || place.IsStart() || tree.Sees(ctx, address) != tree.Seen {
		return nil, nil
	}
	account, err := a.AccountID(ctx, address.Account)
	if err != nil {
		return nil, err
	}
	for _, kind := range []store.Kind{store.KindFile, store.KindFolder} {
		row, err := a.db.AnnotatedAt(ctx, account, place.As(kind))
		if errors.Is(err, records.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		found = append(found, Entry{Annotated: row, Address: address})
		if err := a.Fill(ctx, &found[len(found)-1]); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// rowsAfter returns some annotated entries after a cursor; none at the end.
func (a *Annotations) rowsAfter(ctx context.Context, folder store.Address, tag string, after Cursor) (
	rows []records.Annotated, err error) {
	const page = 500
	if tag != "" {
		if tag, err = annotation.Tag(tag); err == nil {
			rows, err = a.db.Tagged(ctx, tag, after.ID, page)
		}
	} else {
		var path store.Path
		account := ""
		if !folder.IsRoot() {
			if account, err = a.AccountID(ctx, folder.Account); err != nil {
				return nil, err
			}
			if place, ok := folder.Place(); ok {
				path = place.AsFolder().Path
			}
		}
		rows, err = a.db.AnnotatedAfter(ctx, account, path, records.Annotated{Account: after.Account, Folder: after.Folder, Name: after.Name,
			IsFolder: after.IsFolder}, page)
	}
	if err == nil {
		err = a.db.FillAnnotated(ctx, rows)
	}
	return rows, err
}

func (a *Annotations) accountNames(ctx context.Context) (map[string]string, error) {
	rows, err := a.db.Accounts(ctx)
	names := make(map[string]string, len(rows))
	for _, row := range rows {
		names[row.ID] = row.Name
	}
	return names, err
}

// Locks returns the locked entries that the scope of the context shows.
func (a *Annotations) Locks(ctx context.Context) (found []Entry, err error) {
	rows, err := a.db.Locked(ctx, "")
	if err != nil {
		return nil, err
	}
	names, err := a.accountNames(ctx)
	for i := range rows {
		a.dropExpired(&rows[i])
		name, linked := names[rows[i].Account]
		if address := addressOf(name, &rows[i]); linked && rows[i].Lock != nil && tree.Sees(ctx, address) == tree.Seen {
			found = append(found, Entry{Annotated: rows[i], Address: address})
		}
	}
	return found, err
}

// CountTags returns the tags of what the scope of the context shows, the most frequent first.
func (a *Annotations) CountTags(ctx context.Context, most int) (counts []records.TagCount, err error) {
	if tree.ScopeOf(ctx) == nil {
		return a.db.CountTags(ctx, most)
	}
	byFold := map[string]*records.TagCount{}
	for after := (Cursor{}); ; {
		found, next, err := a.Below(ctx, store.Address{}, "", after, 500)
		if err != nil {
			return nil, err
		}
		for _, one := range found {
			for _, tag := range one.Tags {
				fold := annotation.Fold(tag)
				if byFold[fold] == nil {
					byFold[fold] = &records.TagCount{Tag: tag}
				}
				byFold[fold].Entries++
			}
		}
		if next == nil {
			break
		}
		after = *next
	}
	for _, one := range byFold {
		counts = append(counts, *one)
	}
	slices.SortFunc(counts, func(a, b records.TagCount) int {
		if a.Entries != b.Entries {
			return int(b.Entries - a.Entries)
		}
		if a.Tag < b.Tag {
			return -1
		}
		return 1
	})
	return counts[:min(len(counts), most)], nil
}

// ImportComment adds a comment with its time and its author's name, and reports whether it
// is new.
func (a *Annotations) ImportComment(ctx context.Context, one Entry, comment records.Comment) (isNew bool, err error) {
	if comment.Text, err = annotation.Comment(comment.Text); err != nil {
		return false, err
	}
	if comment.At.IsZero() {
		comment.At = a.Now()
	}
	comment.At = comment.At.UTC().Round(time.Millisecond)
	_, isNew, err = a.db.AddComment(ctx, one.Account, one.place(), comment)
	if errors.Is(err, records.ErrTooMany) {
		err = store.Errorf(store.ErrRefused, "%s has %d comments; delete some first", one.Address, annotation.MostComments)
	}
	if err == nil {
		a.noted(one.Account, one.Address)
	}
	return isNew, err
}
