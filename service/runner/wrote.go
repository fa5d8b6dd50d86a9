package runner

import (
	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/service/records"
)

// Wrote is a folder in which a run may have changed something, or anywhere below it.
type Wrote struct {
	Folder store.Address
	Below  bool
}

func below(folder store.Address, names []string) store.Address {
	for _, name := range names {
		folder = folder.Child(name)
	}
	return folder
}

// wrote says where a run may have changed anything.
func (r *Runner) wrote(row records.Run) {
	if r.Wrote == nil || row.Done+row.Removed == 0 {
		return
	}
	for i, route := range row.Routes {
		ends := []string{route.To}
		if row.Rules.Type == plan.TwoWay {
			ends = append(ends, route.From)
		}
		for _, text := range ends {
			address, err := store.ParseAddress(text)
			if err != nil {
				continue
			}
			if len(row.Places) == 0 {
				r.Wrote(Wrote{Folder: address, Below: true})
				continue
			}
			for _, place := range row.Places {
				if place.Route != i {
					continue
				}
				names := store.Path(place.Path).Names()
				r.Wrote(Wrote{Folder: below(address, names[:max(0, len(names)-1)])})
			}
		}
	}
}
