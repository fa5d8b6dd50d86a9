package records

import (
	"context"
	"database/sql"
	"time"
)

// ShareLink is a link by which a person without an account uses a file or folder.
type ShareLink struct {
	ID      string // for people; it opens nothing
	Hash    string // SHA-256 of the link's token, in hexadecimal
	Key     []byte // of the cookies of those who have opened it
	Address string
	Link    string // the id of the account, which another of the same name does not have
	Mode    string // "view", "download" or "drop-off"
	User    string // the id of who made it, whose grants it has
	By      string // their name then
	Note    string
	// Password is an argon2id hash; empty for none.
	Password  string
	CreatedAt time.Time
	ExpiresAt *time.Time
	RevokedAt *time.Time
	// MostUses and LargestFile, in bytes, and MostBytes in all are limits; 0 is none.
	MostUses    int64
	LargestFile int64
	MostBytes   int64
	Uses        int64
	Bytes       int64
	UsedAt      *time.Time
}

// ShareUse is one use of a link, or several of one kind from one place in a short time.
type ShareUse struct {
	Seq    int64 `gorm:"primaryKey"`
	Link   string
	At     time.Time
	From   string
	Client string
	What   string // "download", "archive", "upload" or "refused"
	Name   string
	Times  int64
	Bytes  int64
}

var shareLinksSchema = []string{
	`CREATE TABLE share_links (
		id TEXT PRIMARY KEY, hash TEXT NOT NULL UNIQUE, key BLOB NOT NULL, address TEXT NOT NULL, link TEXT NOT NULL, mode TEXT NOT NULL,
		user TEXT NOT NULL, by TEXT NOT NULL, note TEXT NOT NULL, password TEXT NOT NULL, created_at DATETIME NOT NULL, expires_at DATETIME,
		revoked_at DATETIME, most_uses INTEGER NOT NULL, largest_file INTEGER NOT NULL, most_bytes INTEGER NOT NULL, uses INTEGER NOT NULL,
		bytes INTEGER NOT NULL, used_at DATETIME)`,
	"CREATE INDEX share_links_user ON share_links (user, created_at)",
	`CREATE TABLE share_uses (
		seq INTEGER PRIMARY KEY, link TEXT NOT NULL, at DATETIME NOT NULL, "from" TEXT NOT NULL, client TEXT NOT NULL, what TEXT NOT NULL,
		name TEXT NOT NULL, times INTEGER NOT NULL, bytes INTEGER NOT NULL)`,
	"CREATE INDEX share_uses_link ON share_uses (link, seq)",
}

// AddShareLink adds a link.
func (db *DB) AddShareLink(ctx context.Context, link ShareLink) error {
	return found(db.write.WithContext(ctx).Create(&link).Error)
}

// ShareLinks returns the links of a user, or all if user is empty, newest first.
func (db *DB) ShareLinks(ctx context.Context, user string) (links []ShareLink, err error) {
	query := db.read.WithContext(ctx).Order("created_at DESC")
	if user != "" {
		query = query.Where("user = ?", user)
	}
	return links, query.Find(&links).Error
}

// ShareLink returns the link of an id.
func (db *DB) ShareLink(ctx context.Context, id string) (link ShareLink, err error) {
	return link, found(db.read.WithContext(ctx).Where("id = ?", id).First(&link).Error)
}

// ShareLinkByHash returns the link with a hash of its token.
func (db *DB) ShareLinkByHash(ctx context.Context, hash string) (link ShareLink, err error) {
	return link, found(db.read.WithContext(ctx).Where("hash = ?", hash).First(&link).Error)
}

// SaveShareLink saves columns of a link.
func (db *DB) SaveShareLink(ctx context.Context, link ShareLink, columns ...string) error {
	return db.write.WithContext(ctx).Model(&ShareLink{}).Where("id = ?", link.ID).Select(columns).Updates(link).Error
}

// mostShareUses is how many uses of a link are kept.
const mostShareUses = 1000

// AddShareUses adds uses, and removes the oldest of links that have many.
func (db *DB) AddShareUses(ctx context.Context, uses []ShareUse) error {
	if len(uses) == 0 {
		return nil
	}
	if err := db.write.WithContext(ctx).Create(&uses).Error; err != nil {
		return err
	}
	links := map[string]bool{}
	for _, one := range uses {
		links[one.Link] = true
	}
	return db.transaction(ctx, func(tx *sql.Tx) error {
		for link := range links {
			if _, err := tx.ExecContext(ctx, "DELETE FROM share_uses WHERE link = ?1 AND seq < (SELECT seq FROM share_uses WHERE link = ?1 "+
				"ORDER BY seq DESC LIMIT 1 OFFSET ?2)", link, mostShareUses-1); err != nil {
				return err
			}
		}
		return nil
	})
}

// ShareUses returns the latest uses of a link.
func (db *DB) ShareUses(ctx context.Context, link string) (uses []ShareUse, err error) {
	return uses, db.read.WithContext(ctx).Where("link = ?", link).Order("seq DESC").Limit(mostShareUses).Find(&uses).Error
}
