package api

import (
	"net/url"
	"strings"

	"deftheron/core/store"
)

// below returns the address of a path below the shared entry.
func (o *opening) below(path string) (store.Address, bool) {
	if path == "" {
		return o.root, true
	}
	text := strings.TrimSuffix(o.root.String(), "/") + "/" + strings.TrimPrefix(path, "/")
	address, err := store.ParseAddress(text)
	if err != nil || !o.root.Contains(address) || len(address.Steps) <= len(o.root.Steps) {
		return address, false
	}
	for _, step := range address.Steps[len(o.root.Steps):] {
		if step.ID != "" {
			return address, false
		}
	}
	return address, true
}

// pathOf returns the path of an address below the shared entry.
func (o *opening) pathOf(address store.Address) string {
	relative := store.Address{Account: "x", Steps: address.Steps[len(o.root.Steps):]}
	return strings.TrimPrefix(relative.String(), "/x/")
}

// url returns the URL of an entry below the shared one.
func (o *opening) url(path, do string) string {
	values := url.Values{}
	if path != "" {
		values.Set("at", path)
	}
	if do != "" {
		values.Set("do", do)
	}
	if len(values) == 0 {
		return o.c.Request.URL.Path
	}
	return o.c.Request.URL.Path + "?" + values.Encode()
}
