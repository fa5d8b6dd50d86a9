package accounts

import (
	"context"
	"io"
	"strings"

	"github.com/google/uuid"

	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/service/records"
)

// markPlace is where the mark of a place is kept, at an account's start.
var markPlace = store.At(store.OwnFolder, "place")

// mark returns the mark of a place; empty if it has none, or if it cannot be read.
func mark(ctx context.Context, s store.Store) string {
	body, err := s.Open(ctx, store.Reading{Place: markPlace})
	if err != nil {
		return ""
	}
	defer body.Close()
	text, err := io.ReadAll(io.LimitReader(body, 100))
	if _, wrong := uuid.Parse(strings.TrimSpace(string(text))); err != nil || wrong != nil {
		return ""
	}
	return strings.TrimSpace(string(text))
}

// markedPlace returns the mark of an account's place, and puts one there where there is
// none and it may be written to. That is done when the account is about to be said
// to be elsewhere, and not before: nothing is written to a place without need.
func (a *Accounts) markedPlace(ctx context.Context, name string) (string, error) {
	row, err := a.row(ctx, name)
	if err != nil || row.Mark != "" || row.ReadOnly {
		return row.Mark, err
	}
	opened, err := a.Open(ctx, name)
	if err != nil {
		return "", err
	}
	if row.Mark = mark(ctx, opened.Store); row.Mark == "" {
		if row.Mark, err = putMark(ctx, opened.Store); err != nil {
			return "", err
		}
	}
	return row.Mark, a.db.SaveAccount(ctx, row, "Mark")
}

// LeaveMark leaves a mark at an account's place, by which it is known again when it is
// linked again; not where it cannot be written to.
func (a *Accounts) LeaveMark(ctx context.Context, name string) error {
	_, err := a.markedPlace(ctx, name)
	switch store.KindOf(err) {
	case store.ErrRefused, store.ErrNameRefused, store.ErrUnsupported:
		return nil
	}
	return err
}

// again is the id under which a place was linked before, if it is marked and that link
// has ended; else the one given. What is remembered of copies there holds again.
func (a *Accounts) again(ctx context.Context, row records.Account) string {
	if row.Mark == "" {
		return row.ID
	}
	id, err := a.db.EndedAt(ctx, row.Mark)
	if err != nil {
		return row.ID
	}
	return id
}

// SamePlace reports whether two accounts are at one place, by the mark of the first:
// with leave, one is left there where there is none.
func (a *Accounts) SamePlace(ctx context.Context, one, other string, leave bool) (bool, error) {
	if one == other {
		return true, nil
	}
	if leave {
		if _, err := a.markedPlace(ctx, one); err != nil {
			return false, err
		}
	}
	marks := [2]string{}
	for i, name := range []string{one, other} {
		opened, err := a.Open(ctx, name)
		if err != nil {
			return false, err
		}
		marks[i] = mark(ctx, opened.Store)
	}
	return marks[0] != "" && marks[0] == marks[1], nil
}

type markContent string

// Open implements store.Content.
func (m markContent) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(io.NopCloser(strings.NewReader(string(m))), store.CRC64NVME, nil), nil
}

func putMark(ctx context.Context, s store.Store) (string, error) {
	text := uuid.NewString() + "\n"
	if s.Traits().Folders == store.FoldersReal {
		if _, err := s.MakeFolder(ctx, markPlace.Folder.Path.Ref()); err != nil {
			return "", err
		}
	}
	_, err := s.Write(ctx, store.Writing{Place: markPlace, Size: int64(len(text)), Run: "mark", Content: markContent(text)})
	if store.KindOf(err) == store.ErrExists { // somebody was faster
		return mark(ctx, s), nil
	}
	return strings.TrimSpace(text), err
}

// samePlace is ErrOtherPlace where an account would be at another storage than
// before, as far as can be told: by the mark of the place, looked for where the
// account began before, else by what it is said to be.
func (a *Accounts) samePlace(ctx context.Context, before, after records.Account, keeps store.Secrets, anyway bool) error {
	if anyway || !a.elsewhere(before, after) {
		return nil
	}
	remembered := before.Mark
	if remembered == "" {
		var err error
		if remembered, err = a.markedPlace(ctx, before.Name); err != nil {
			remembered = "" // it cannot be asked any more, or not be written to
		}
	}
	there := after
	there.Start = before.Start
	opened, err := a.openRow(ctx, there, keeps)
	if err != nil && store.KindOf(err) == store.ErrNotFound {
		return remedy.Errorf("with these settings /%s would be %w: its starting folder is not there; say so if that is meant, with --yes",
			before.Name, ErrOtherPlace)
	}
	if err != nil {
		return err
	}
	defer store.Close(opened.Store)
	found := mark(ctx, opened.Store)
	switch {
	case remembered != "" && found == remembered:
		return nil
	case remembered != "":
		return remedy.Errorf("with these settings /%s would be %w: the mark that was left there is not found; "+
			"look at what is there, and say so if that is meant, with --yes", before.Name, ErrOtherPlace)
	}
	if was := a.locate(ctx, before); was != "" && was == store.Locate(opened.Store, store.Folder{}) {
		return nil
	}
	return remedy.Errorf("with these settings /%s may be %w: no mark was ever left there to know it by; "+
		"look at what is there, and say so if that is meant, with --yes", before.Name, ErrOtherPlace)
}

// elsewhere reports whether an edit changes an option that says which place it is,
// rather than how it is reached.
func (a *Accounts) elsewhere(before, after records.Account) bool {
	provider, err := a.Provider(before.Provider)
	if err != nil {
		return true
	}
	for _, option := range provider.Options() {
		if !option.ConnectionOption && before.Options[option.Name] != after.Options[option.Name] {
			return true
		}
	}
	return false
}

// locate is where an account is, as far as it can still be asked.
func (a *Accounts) locate(ctx context.Context, row records.Account) string {
	opened, err := a.Open(ctx, row.Name)
	if err != nil {
		return ""
	}
	return store.Locate(opened.Store, store.Folder{})
}
