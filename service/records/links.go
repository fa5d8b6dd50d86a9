package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strings"
	"time"
)

// LinkEvent is something that happened to a link over its life.
type LinkEvent struct {
	Seq     int64 `gorm:"primaryKey"`
	Account string
	Name    string // that the account had
	At      time.Time
	What    string // linked, changed, renamed, suspended, resumed, expired, mended, ended
	By      string // who did it, in words
	Why     string
	// Settings as they were from then on, never with a secret.
	Settings LinkSettings `gorm:"serializer:json"`
	// Mark of the place that the link led to, where it had one.
	Mark string
}

// LinkSettings are what an account is linked with, but for its secret.
type LinkSettings struct {
	Provider string            `json:"provider"`
	Options  map[string]string `json:"options"`
	Start    string            `json:"start,omitempty"`
	ReadOnly bool              `json:"read_only,omitempty"`
	Owner    string            `json:"owner,omitempty"`
	Site     string            `json:"site,omitempty"`
}

// Settings returns the present settings of the account.
func (a Account) Settings() LinkSettings {
	return LinkSettings{Provider: a.Provider, Options: a.Options, Start: a.Start, ReadOnly: a.ReadOnly, Owner: a.Owner, Site: a.Site}
}

// The events of a link.
const (
	Linked        = "linked"
	LinkChanged   = "changed"
	LinkRenamed   = "renamed"
	Suspended     = "suspended"
	Resumed       = "resumed"
	SignInExpired = "sign-in-expired"
	Reauthorized  = "reauthorized"
	LinkRefused   = "refused" // a change that was not made
	Unlinked      = "unlinked"
)

// AddLinkEvent keeps an event.
func (db *DB) AddLinkEvent(ctx context.Context, event *LinkEvent) error {
	return db.write.WithContext(ctx).Create(event).Error
}

// LinkEvents returns the events of an account, or with an empty id of all, oldest
// first.
func (db *DB) LinkEvents(ctx context.Context, account string) (events []LinkEvent, err error) {
	query := db.read.WithContext(ctx).Order("seq")
	if account != "" {
		query = query.Where("account = ?", account)
	}
	return events, query.Find(&events).Error
}

// EndedAt returns the id of the link that led to a marked place and ended last;
// ErrNotFound where there was none, or it is linked again.
func (db *DB) EndedAt(ctx context.Context, mark string) (id string, err error) {
	err = db.readPool.QueryRowContext(ctx, `SELECT account FROM link_events WHERE mark = ? AND mark <> '' AND what = 'unlinked'
		AND account NOT IN (SELECT id FROM accounts) ORDER BY seq DESC LIMIT 1`, mark).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return id, err
}

// ForgetEnded removes the pairs of accounts that were unlinked before a time.
func (db *DB) ForgetEnded(ctx context.Context, before time.Time) error {
	return db.transaction(ctx, func(tx *sql.Tx) error {
		const scopes = `(SELECT number FROM scopes WHERE EXISTS (SELECT 1 FROM link_events INDEXED BY link_events_unlinked
			WHERE what = 'unlinked' AND at < ? AND instr(scopes.name, account) AND account NOT IN (SELECT id FROM accounts)))`
		for _, statement := range []string{"DELETE FROM pairs WHERE scope IN " + scopes, "DELETE FROM scopes WHERE number IN " + scopes} {
			if _, err := tx.ExecContext(ctx, statement, before); err != nil {
				return err
			}
		}
		return nil
	})
}

// LinkedAs returns the id of the link that had a name last, ended or not;
// ErrNotFound where there was none.
func (db *DB) LinkedAs(ctx context.Context, name string) (string, error) {
	var event LinkEvent
	err := db.read.WithContext(ctx).Where("name = ?", name).Order("seq DESC").First(&event).Error
	return event.Account, found(err)
}

// SaveAccount saves the named columns of an account, and no others: it must not restore
// values that a provider has replaced meanwhile, such as its secret.
func (db *DB) SaveAccount(ctx context.Context, row Account, columns ...string) error {
	defer db.accounts.clear()
	return found(db.write.WithContext(ctx).Model(&row).Where("id = ?", row.ID).Select(columns).Updates(row).Error)
}

// SawAccount keeps when an account answered last.
func (db *DB) SawAccount(ctx context.Context, id string, at time.Time) error {
	defer db.accounts.clear()
	return db.write.WithContext(ctx).Exec("UPDATE accounts SET seen_at = ? WHERE id = ?", at, id).Error
}

// RenameAccount gives an account another name, and has the addresses of jobs and
// runs follow, in one transaction. ErrTaken where the name is in use.
func (db *DB) RenameAccount(ctx context.Context, id, from, to string) error {
	defer db.accounts.clear()
	return db.transaction(ctx, func(tx *sql.Tx) error {
		var other string
		err := tx.QueryRowContext(ctx, "SELECT id FROM accounts WHERE name = ?", to).Scan(&other)
		if err == nil {
			return ErrTaken
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE accounts SET name = ? WHERE id = ?", to, id); err != nil {
			return err
		}
		for table, key := range map[string]string{"jobs": "id", "runs": "number"} {
			if err := renameRoutes(ctx, tx, table, key, from, to); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, "UPDATE arrivals SET address = ? || substr(address, ?) WHERE address = ? OR substr(address, 1, ?) = ?",
			"/"+to, len(from)+2, "/"+from, len(from)+2, "/"+from+"/")
		return err
	})
}

func renameRoutes(ctx context.Context, tx *sql.Tx, table, key, from, to string) error {
	rows, err := tx.QueryContext(ctx, "SELECT "+key+", routes FROM "+table+" WHERE instr(routes, ?)", `"/`+from)
	if err != nil {
		return err
	}
	defer rows.Close()
	changed := map[any][]byte{}
	for rows.Next() {
		var id any
		var text []byte
		if err := rows.Scan(&id, &text); err != nil {
			return err
		}
		var routes []Route
		if err := json.Unmarshal(text, &routes); err != nil {
			return err
		}
		for i := range routes {
			routes[i].From, routes[i].To = renamed(routes[i].From, from, to), renamed(routes[i].To, from, to)
		}
		if changed[id], err = json.Marshal(routes); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for id, text := range changed {
		if _, err := tx.ExecContext(ctx, "UPDATE "+table+" SET routes = ? WHERE "+key+" = ?", string(text), id); err != nil {
			return err
		}
	}
	return nil
}

// renamed is an address after its account was renamed.
func renamed(address, from, to string) string {
	if rest, ok := strings.CutPrefix(address, "/"+from); ok && (rest == "" || rest[0] == '/') {
		return "/" + to + rest
	}
	return address
}

// JobsUsing returns the names of the jobs that are kept, rather than made for one
// run, and use an account.
func (db *DB) JobsUsing(ctx context.Context, account string) (names []string, err error) {
	var jobs []Job
	if err := db.read.WithContext(ctx).Where("once = 0").Order("name").Find(&jobs).Error; err != nil {
		return nil, err
	}
	for _, job := range jobs {
		for _, route := range job.Routes {
			if renamed(route.From, account, "") != route.From || renamed(route.To, account, "") != route.To {
				names = append(names, job.Name)
				break
			}
		}
	}
	return names, nil
}

// SpaceSample is how much an account held at a time.
type SpaceSample struct {
	Account string
	At      time.Time
	Used    int64
	Free    int64
	Total   int64
}

// AddSpaceSample adds a sample, and removes the account's samples from before a
// time.
func (db *DB) AddSpaceSample(ctx context.Context, sample SpaceSample, before time.Time) error {
	if err := db.write.WithContext(ctx).Where("account = ? AND at < ?", sample.Account, before).Delete(&SpaceSample{}).Error; err != nil {
		return err
	}
	return db.write.WithContext(ctx).Create(&sample).Error
}

// SpaceSamples returns the samples of an account, oldest first.
func (db *DB) SpaceSamples(ctx context.Context, account string) (samples []SpaceSample, err error) {
	return samples, db.read.WithContext(ctx).Where("account = ?", account).Order("at").Find(&samples).Error
}

// LatestSpaceSample returns the newest of an account; ErrNotFound if there is none.
func (db *DB) LatestSpaceSample(ctx context.Context, account string) (sample SpaceSample, err error) {
	return sample, found(db.read.WithContext(ctx).Where("account = ?", account).Order("at DESC").Take(&sample).Error)
}

// Speed is a speed check that was done, as JSON.
type Speed struct {
	Seq     int64 `gorm:"primaryKey"`
	Account string
	At      time.Time
	Result  string
}

// AddSpeed keeps a speed check.
func (db *DB) AddSpeed(ctx context.Context, speed *Speed) error {
	return db.write.WithContext(ctx).Create(speed).Error
}

// Speeds returns the speed checks of an account, newest first.
func (db *DB) Speeds(ctx context.Context, account string, most int) (speeds []Speed, err error) {
	return speeds, db.read.WithContext(ctx).Where("account = ?", account).Order("seq DESC").Limit(most).Find(&speeds).Error
}
