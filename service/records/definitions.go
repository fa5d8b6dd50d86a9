package records

import (
	"context"
	"time"

	"gorm.io/gorm/clause"
)

// Definition is a provider definition that was added to this service.
type Definition struct {
	Name      string `gorm:"primaryKey"`
	Text      string
	CreatedAt time.Time
}

// Definition returns a definition that was added, by name.
func (db *DB) Definition(ctx context.Context, name string) (definition Definition, err error) {
	err = db.read.WithContext(ctx).Where("name = ?", name).First(&definition).Error
	return definition, found(err)
}

// Definitions returns all that were added, by name.
func (db *DB) Definitions(ctx context.Context) (all []Definition, err error) {
	err = db.read.WithContext(ctx).Order("name").Find(&all).Error
	return all, err
}

// PutDefinition adds a definition, or replaces the one of its name.
func (db *DB) PutDefinition(ctx context.Context, definition *Definition) error {
	return db.write.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(definition).Error
}

// RemoveDefinition forgets a definition.
func (db *DB) RemoveDefinition(ctx context.Context, name string) error {
	return db.write.WithContext(ctx).Where("name = ?", name).Delete(&Definition{}).Error
}

// Registration is an app registration of one's own at a provider.
type Registration struct {
	Provider  string `gorm:"primaryKey"`
	ClientID  string
	Secret    []byte // sealed; empty where it has none
	CreatedAt time.Time
}

// Registration returns the app registration for a provider; ErrNotFound where
// there is none.
func (db *DB) Registration(ctx context.Context, provider string) (registration Registration, err error) {
	err = db.read.WithContext(ctx).Where("provider = ?", provider).First(&registration).Error
	return registration, found(err)
}

// PutRegistration keeps an app registration in place of the one before.
func (db *DB) PutRegistration(ctx context.Context, registration *Registration) error {
	return db.write.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(registration).Error
}

// RemoveRegistration forgets an app registration.
func (db *DB) RemoveRegistration(ctx context.Context, provider string) error {
	return db.write.WithContext(ctx).Where("provider = ?", provider).Delete(&Registration{}).Error
}

// ReauthorizeAccount replaces the sealed secret of an account, and keeps its owner.
func (db *DB) ReauthorizeAccount(ctx context.Context, id string, secret []byte, owner, origin string) error {
	defer db.accounts.clear()
	return db.write.WithContext(ctx).Exec("UPDATE accounts SET secret = ?, owner = ?, origin = ? WHERE id = ?", secret, owner, origin,
		id).Error
}
