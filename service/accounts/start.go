package accounts

import (
	"strings"

	"deftheron/core/store"
)

// parseStart checks a starting folder and returns it as in an address.
func parseStart(start string) (string, error) {
	start = strings.Trim(start, "/")
	if start == "" {
		return "", nil
	}
	address, err := store.ParseAddress("/a/" + start)
	if err != nil {
		return "", &store.OptionError{Option: "start", Reason: err.Error()}
	}
	if _, ok := address.Place(); !ok {
		return "", &store.OptionError{Option: "start", Reason: "give the folder by its names"}
	}
	return start, nil
}

func startPath(start string) store.Path {
	address, err := store.ParseAddress("/a/" + start)
	if err != nil {
		return ""
	}
	place, _ := address.Place()
	return place.AsFolder().Path
}
