package records

import (
	"encoding/json"
	"time"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

// scannedTime scans nanoseconds.
type scannedTime struct{ at *time.Time }

// Scan implements sql.Scanner.
func (s scannedTime) Scan(value any) error {
	n, _ := value.(int64)
	*s.at = fromNanoseconds(n)
	return nil
}

// scannedOrigin scans JSON; empty is none.
type scannedOrigin struct{ origin **plan.Origin }

// Scan implements sql.Scanner.
func (s scannedOrigin) Scan(value any) error {
	text, _ := value.(string)
	if text == "" {
		return nil
	}
	return json.Unmarshal([]byte(text), s.origin)
}

func originText(origin *plan.Origin) string {
	if origin == nil {
		return ""
	}
	text, _ := json.Marshal(origin) // of strings alone
	return string(text)
}

func scanItem(item *transfer.Item) []any {
	return []any{
		&item.Seq, &item.Route, (*keyBytes)(&item.Key), (*keyBytes)(&item.To), &item.Kind, &item.Action, &item.Size, &item.SourceID,
		&item.Source.Revision, scannedTime{&item.Source.Modified},
		&item.Target.Revision, &item.Target.Size, scannedTime{&item.Target.Modified}, &item.State, &item.Cause, &item.Why, &item.Mark,
		scannedOrigin{&item.Origin}, &item.Decision,
	}
}

// keyBytes scans a key, which is kept as bytes so that it compares as such.
type keyBytes store.Key

// Scan implements sql.Scanner.
func (k *keyBytes) Scan(value any) error {
	data, _ := value.([]byte)
	*k = keyBytes(data)
	return nil
}

// orNull is a key, or no value for none.
func orNull(key store.Key) any {
	if key == "" {
		return nil
	}
	return []byte(key)
}

func restoreItem(item *transfer.Item) { item.Source.Size = item.Size }

// nanoseconds are 0 for no time.
func nanoseconds(at time.Time) int64 {
	if at.IsZero() {
		return 0
	}
	return at.UnixNano()
}

func fromNanoseconds(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.Unix(0, n)
}
