package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"deftheron/core/annotation"
	"deftheron/core/store"
)

// ErrTooMany is the error if an entry has the maximum number of tags or comments.
var ErrTooMany = errors.New("too many")

// AddTags gives an entry tags, and returns how many it did not have.
func (db *DB) AddTags(ctx context.Context, account string, place store.Ref, tags []string, by string, at time.Time) (added int64,
	err error) {
	return added, db.transaction(ctx, func(tx *sql.Tx) error {
		id, err := ensureAnnotated(ctx, tx, account, place)
		if err != nil {
			return err
		}
		for _, tag := range tags {
			result, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO tags (entry, fold, tag, by, at) VALUES (?, ?, ?, ?, ?)", id,
				annotation.Fold(tag), tag, by, at)
			if err != nil {
				return err
			}
			n, _ := result.RowsAffected()
			added += n
		}
		var now int
		err = tx.QueryRowContext(ctx, "SELECT count(*) FROM tags WHERE entry = ?", id).Scan(&now)
		if err == nil && now > annotation.MostTags {
			err = ErrTooMany
		}
		return err
	})
}

// RemoveTags takes tags from an entry, and returns how many it had.
func (db *DB) RemoveTags(ctx context.Context, id int64, tags []string) (removed int64, err error) {
	return removed, db.transaction(ctx, func(tx *sql.Tx) error {
		for _, tag := range tags {
			result, err := tx.ExecContext(ctx, "DELETE FROM tags WHERE entry = ? AND fold = ?", id, annotation.Fold(tag))
			if err != nil {
				return err
			}
			n, _ := result.RowsAffected()
			removed += n
		}
		return dropBare(ctx, tx, id)
	})
}

// AddComment adds a comment to an entry. One that its author made at the same time is
// changed instead.
func (db *DB) AddComment(ctx context.Context, account string, place store.Ref, comment Comment) (added Comment, isNew bool, err error) {
	return added, isNew, db.transaction(ctx, func(tx *sql.Tx) error {
		id, err := ensureAnnotated(ctx, tx, account, place)
		if err != nil {
			return err
		}
		added = comment
		err = tx.QueryRowContext(ctx, "UPDATE comments SET text = ?, edited_at = ? WHERE entry = ? AND at = ? AND by = ? RETURNING id",
			comment.Text, comment.EditedAt, id, comment.At, comment.By).Scan(&added.ID)
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		var now int
		if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM comments WHERE entry = ?", id).Scan(&now); err != nil {
			return err
		}
		if now >= annotation.MostComments {
			return ErrTooMany
		}
		isNew = true
		return tx.QueryRowContext(ctx, "INSERT INTO comments (entry, user, by, at, edited_at, text) VALUES (?, ?, ?, ?, ?, ?) RETURNING id", id,
			comment.User, comment.By, comment.At, comment.EditedAt, comment.Text).Scan(&added.ID)
	})
}

// Comment returns a comment, and the entry that it is about.
func (db *DB) Comment(ctx context.Context, id int64) (comment Comment, about Annotated, err error) {
	var entry int64
	if err := db.read.WithContext(ctx).Raw("SELECT entry FROM comments WHERE id = ?", id).Scan(&entry).Error; err != nil {
		return comment, about, err
	}
	if err := db.read.WithContext(ctx).Raw("SELECT * FROM comments WHERE id = ?", id).Scan(&comment).Error; err != nil {
		return comment, about, err
	}
	rows, err := db.annotatedRows(ctx, "WHERE id = ?", entry)
	about, err = oneAnnotated(rows, err)
	return comment, about, err
}

// EditComment changes the text of a comment.
func (db *DB) EditComment(ctx context.Context, id int64, text string, at time.Time) error {
	return db.write.WithContext(ctx).Exec("UPDATE comments SET text = ?, edited_at = ? WHERE id = ?", text, at, id).Error
}

// RemoveComment removes a comment.
func (db *DB) RemoveComment(ctx context.Context, id, entry int64) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM comments WHERE id = ?", id); err != nil {
			return err
		}
		return dropBare(ctx, tx, entry)
	})
}

// TagCount is how many entries have a tag.
type TagCount struct {
	Tag     string
	Entries int64
}

// CountTags returns the tags of all entries, the most frequent first.
func (db *DB) CountTags(ctx context.Context, most int) (counts []TagCount, err error) {
	return counts, db.read.WithContext(ctx).Raw("SELECT tag, entries FROM tag_counts ORDER BY entries DESC, fold LIMIT ?", most).
		Scan(&counts).Error
}

// Tagged returns entries that have a tag, those with an id after one that was returned before.
func (db *DB) Tagged(ctx context.Context, tag string, after int64, most int) ([]Annotated, error) {
	return db.annotatedRows(ctx, "WHERE id IN (SELECT entry FROM tags WHERE fold = ? AND entry > ? ORDER BY entry LIMIT ?) ORDER BY id",
		annotation.Fold(tag), after, most)
}
