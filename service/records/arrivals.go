package records

import "context"

// Arrival is a file that is on its way from outside: should the process end, it
// tells where something of ours may be left.
type Arrival struct {
	Run     string `gorm:"primaryKey"` // marks what is left
	Address string
}

// AddArrival keeps an arrival until it has ended.
func (db *DB) AddArrival(ctx context.Context, arrival Arrival) error {
	return db.write.WithContext(ctx).Create(&arrival).Error
}

// EndArrival forgets an arrival.
func (db *DB) EndArrival(ctx context.Context, run string) error {
	return db.write.WithContext(ctx).Delete(&Arrival{Run: run}).Error
}

// Arrivals returns those that have not ended.
func (db *DB) Arrivals(ctx context.Context) (arrivals []Arrival, err error) {
	return arrivals, db.read.WithContext(ctx).Find(&arrivals).Error
}
