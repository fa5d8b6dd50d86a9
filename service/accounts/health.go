package accounts

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	mathrand "math/rand/v2"
	"strings"
	"time"

	"deftheron/contract"
	"deftheron/core/remedy"
	"deftheron/core/retry"
	"deftheron/core/speed"
	"deftheron/core/store"
	"deftheron/service/messages"
	"deftheron/service/records"
)

const (
	// checkEvery is how often each account is checked quietly.
	checkEvery = 10 * time.Minute
	// sampleEvery is how often its space is kept, and sampleFor for how long.
	sampleEvery = time.Hour
	sampleFor   = 30 * 24 * time.Hour
	// expiresSoon is how long before its end a certificate is warned of, and
	// fullSoon how long before a storage is full.
	expiresSoon = 21 * 24 * time.Hour
	fullSoon    = 14 * 24 * time.Hour
	// nearlyFull is the part of the space that is left when it is warned of.
	nearlyFull = 0.05
)

// Watch checks each account from time to time, until the context ends, so that problems
// are reported before a run meets them. It writes nothing there.
func (a *Accounts) Watch(ctx context.Context) {
	for {
		pause := checkEvery/2 + mathrand.N(checkEvery)
		if retry.Sleep(ctx, pause) != nil {
			return
		}
		a.CheckAll(ctx)
	}
}

// CheckAll checks every account that is not suspended, one after the other.
func (a *Accounts) CheckAll(ctx context.Context) {
	rows, err := a.db.Accounts(ctx)
	if err != nil {
		a.log.ErrorContext(ctx, "could not check the accounts", "error", err)
		return
	}
	for _, row := range rows {
		if row.Suspended {
			continue
		}
		space, err := a.space(ctx, row)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			a.log.WarnContext(ctx, "an account needs attention", "account", row.Name, "error", err)
			continue
		}
		a.sample(ctx, row, space, time.Now())
	}
	a.Changed()
}

// sample keeps how much an account holds, once an hour. Where the account tells no limit, free and
// total are -1.
func (a *Accounts) sample(ctx context.Context, row records.Account, space store.Space, now time.Time) {
	if space.Used < 0 {
		return
	}
	if space.Total <= 0 || space.Free < 0 {
		space.Total, space.Free = -1, -1
	}
	latest, err := a.db.LatestSpaceSample(ctx, row.ID)
	if errors.Is(err, records.ErrNotFound) || err == nil && now.Sub(latest.At) >= sampleEvery {
		err = a.db.AddSpaceSample(ctx, records.SpaceSample{Account: row.ID, At: now, Used: space.Used, Free: space.Free, Total: space.Total},
			now.Add(-sampleFor))
	}
	if err != nil {
		a.log.ErrorContext(ctx, "could not save the space of an account", "account", row.Name, "error", err)
	}
}

// Warning is something that is going to stand in the way.
type Warning struct {
	What   string // as contract.Warning has it
	Why    string
	Remedy string
}

// Warnings returns the present warnings of an account.
func (a *Accounts) Warnings(ctx context.Context, row records.Account) []Warning {
	var warnings []Warning
	now := time.Now()
	if row.Suspended {
		return nil
	}
	a.mu.Lock()
	ends, known := a.certificates[row.ID]
	unwritable := a.unwritable[row.ID]
	a.mu.Unlock()
	if left := ends.Sub(now); known && left < expiresSoon {
		why := fmt.Sprintf("The certificate of its server ends on %s, in %d days.", ends.Local().Format(time.DateOnly),
			max(0, int(left.Hours()/24)))
		warnings = append(warnings, Warning{"certificate-ends", why, "Have it renewed there before then, or it is refused."})
	}
	if other := a.samePlaceAs(ctx, row); other != "" {
		warnings = append(warnings, Warning{"linked-twice", "It is the same storage as /" + other + ".",
			"Unlink one of the two unless that is intended. Its space counts once."})
	}
	if unwritable != nil && !row.ReadOnly {
		why, advice := remedy.Of(unwritable)
		warnings = append(warnings, Warning{"not-writable", contract.Sentence(why), contract.Sentence(advice)})
	}
	samples, err := a.db.SpaceSamples(ctx, row.ID)
	if err != nil || len(samples) == 0 {
		return warnings
	}
	last := samples[len(samples)-1]
	switch when, ok := Forecast(samples); {
	case last.Total > 0 && float64(last.Free) < nearlyFull*float64(last.Total):
		warnings = append(warnings, Warning{"space-nearly-full",
			fmt.Sprintf("It is nearly full: %d %% of its space are free.", 100*last.Free/last.Total), "Free space there, or have it enlarged."})
	case ok && when.Sub(now) < fullSoon:
		why := fmt.Sprintf("If it fills as it has of late, it is full on %s.", when.Local().Format(time.DateOnly))
		warnings = append(warnings, Warning{"space-full-soon", why, "Free space there, or have it enlarged."})
	}
	return warnings
}

// checkWritable returns an error if an account that may be written to is at a folder of this machine
// that may not.
func (a *Accounts) checkWritable(row records.Account) error {
	provider, err := a.Provider(row.Provider)
	checker, ok := provider.(store.WriteChecker)
	if err != nil || !ok || row.ReadOnly || row.Site != "" {
		return nil
	}
	return messages.Unwritable(checker.CheckWritable(row.Options, startPath(row.Start)))
}

// samePlaceAs is another account, of those that are open, whose start is the same place;
// empty for none.
func (a *Accounts) samePlaceAs(ctx context.Context, row records.Account) string {
	a.mu.Lock()
	opened := maps.Clone(a.open)
	a.mu.Unlock()
	mine, ok := opened[row.ID]
	if !ok {
		return ""
	}
	place := store.Locate(mine.Store, store.Folder{})
	rows, err := a.db.Accounts(ctx)
	if err != nil || place == "" {
		return ""
	}
	for _, other := range rows {
		if one, ok := opened[other.ID]; ok && other.ID != row.ID && store.Locate(one.Store, store.Folder{}) == place {
			return other.Name
		}
	}
	return ""
}

// Forecast is when an account is full if it goes on filling as it has, by the line
// of least squares through the samples; ok is false where they span less than a
// day, or it does not fill.
func Forecast(samples []records.SpaceSample) (when time.Time, ok bool) {
	if len(samples) < 3 || samples[len(samples)-1].Free < 0 {
		return time.Time{}, false
	}
	first, last := samples[0].At, samples[len(samples)-1]
	if last.At.Sub(first) < 24*time.Hour {
		return time.Time{}, false
	}
	var n, sumX, sumY, sumXY, sumXX float64
	for _, sample := range samples {
		x, y := sample.At.Sub(first).Hours(), float64(sample.Used)
		n, sumX, sumY, sumXY, sumXX = n+1, sumX+x, sumY+y, sumXY+x*y, sumXX+x*x
	}
	slope := (n*sumXY - sumX*sumY) / (n*sumXX - sumX*sumX) // bytes an hour
	if slope <= 0 {
		return time.Time{}, false
	}
	hours := float64(last.Free) / slope
	const tooFar = 24 * 3650
	if hours > tooFar {
		return time.Time{}, false
	}
	return last.At.Add(time.Duration(hours * float64(time.Hour))), true
}

// Speed is a speed check that was done.
type Speed struct {
	Account string
	At      time.Time
	Result  speed.Result
}

// MeasureSpeed checks the speed of an account in a scratch folder, which it removes
// again, and keeps what it came to.
func (a *Accounts) MeasureSpeed(ctx context.Context, name string, options speed.Options) (Speed, error) {
	if err := options.Check(); err != nil {
		return Speed{}, err
	}
	row, err := a.row(ctx, name)
	if err != nil {
		return Speed{}, err
	}
	if row.ReadOnly {
		return Speed{}, store.Errorf(store.ErrRefused,
			"/%s was linked to be read only, and a speed check writes; check an account that is written to", name)
	}
	opened, err := a.Open(ctx, name)
	if err != nil {
		return Speed{}, err
	}
	options.Run = "speed" + strings.ToLower(rand.Text()[:8])
	result, err := speed.Measure(ctx, opened.Store, options)
	if err != nil {
		return Speed{}, err
	}
	done := Speed{Account: name, At: time.Now(), Result: result}
	encoded, err := json.Marshal(result)
	if err != nil {
		return done, err
	}
	return done, a.db.AddSpeed(context.WithoutCancel(ctx), &records.Speed{Account: row.ID, At: done.At, Result: string(encoded)})
}

// Speeds are the speed checks of an account, newest first.
func (a *Accounts) Speeds(ctx context.Context, name string, most int) ([]Speed, error) {
	row, err := a.row(ctx, name)
	if err != nil {
		return nil, err
	}
	rows, err := a.db.Speeds(ctx, row.ID, most)
	var all []Speed
	for _, one := range rows {
		kept := Speed{Account: name, At: one.At}
		if err := json.Unmarshal([]byte(one.Result), &kept.Result); err != nil {
			return nil, err
		}
		all = append(all, kept)
	}
	return all, err
}

// look finds the owner, the space and the first folders of an account.
func look(ctx context.Context, s store.Store) (found Found, err error) {
	err = retry.Patiently(ctx, func() error {
		found, err = lookOnce(ctx, s)
		return err
	})
	return found, err
}

func lookOnce(ctx context.Context, s store.Store) (Found, error) {
	const most, deepEnough = 8, 1000
	found := Found{Space: store.UnknownSpace}
	var err error
	if found.Owner, err = store.OwnerOf(ctx, s); err != nil {
		return found, err
	}
	if found.Space, err = store.SpaceOf(ctx, s); err != nil {
		return found, err
	}
	if found.Areas, err = store.AreasOf(ctx, s); err != nil {
		return found, err
	}
	seen := 0
	for entry, err := range s.List(ctx, store.Folder{}) {
		if store.KindOf(err) == store.ErrRefused && s.Capabilities().Sealing != nil {
			return found, nil // it can be rebuilt once it is linked
		}
		if err != nil {
			return found, err
		}
		if store.Ours("", entry.Name) {
			continue
		}
		seen++
		if entry.Kind == store.KindFolder {
			found.Folders = append(found.Folders, entry.Name)
		}
		if len(found.Folders) >= most || seen >= deepEnough {
			break
		}
	}
	return found, nil
}
