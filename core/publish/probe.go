package publish

import (
	"crypto/rand"
	"encoding/hex"
	"strings"
	"time"

	"deftheron/core/store"
)

// ProbePrefix begins the names of probes: scratch files and folders in [store.OwnFolder], by
// which a provider finds out what a server can do.
const ProbePrefix = "probe-"

// probeTime is after how long a probe is no longer at work.
const probeTime = 10 * time.Minute

// NewProbe returns a name for a probe that no other has.
func NewProbe() string {
	var random [8]byte
	rand.Read(random[:])
	return ProbePrefix + hex.EncodeToString(random[:])
}

// StaleProbes returns the probes among the entries of a folder that were left behind, as by
// a process that was killed: those ten minutes older than the probe given, which is among
// the entries as well. So both times are the server's.
func StaleProbes(entries []store.Entry, probe string) (stale []store.Entry) {
	var now time.Time
	for _, entry := range entries {
		if entry.Name == probe {
			now = entry.Modified
		}
	}
	for _, entry := range entries {
		if strings.HasPrefix(entry.Name, ProbePrefix) && !entry.Modified.IsZero() && now.Sub(entry.Modified) >= probeTime {
			stale = append(stale, entry)
		}
	}
	return stale
}
