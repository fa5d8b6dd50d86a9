package webdav

import (
	"net/url"
	"strings"
	"testing"
)

// FuzzListing reads listings of any kind: one that is cut anywhere is never taken for
// the whole, and no href becomes a name that leads out of the folder.
func FuzzListing(f *testing.F) {
	for _, href := range []string{"/dav/in/a.txt", "http://files.example.org/dav/in/b%20c/", "d", "../x", "/dav/in/..", "/dav/in/%2e%2e",
		"//other/dav/in/x", "/dav/in/a%2Fb", "%zz"} {
		f.Add(`<D:multistatus xmlns:D="DAV:"><D:response><D:href>`+href+
			`</D:href><D:propstat><D:prop><D:getetag>"1"</D:getetag></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response></D:multistatus>`, uint(90))
	}
	f.Add("<multistatus/>", uint(3))
	a := &account{}
	target, err := url.Parse("http://files.example.org/dav/in/")
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, text string, cut uint) {
		_, err := multistatus(strings.NewReader(text), func(r response) error {
			for _, href := range r.Hrefs {
				if name, err := a.nameBelow(target, href); err == nil && (name == "." || name == "..") {
					t.Fatalf("%q became the name %q", href, name)
				}
			}
			return nil
		})
		if err != nil {
			return
		}
		part := text[:cut%uint(len(text))]
		if strings.Count(part, "multistatus") > 1 || strings.Contains(part, "/>") {
			return // it may have its end
		}
		if _, err := multistatus(strings.NewReader(part), func(response) error { return nil }); err == nil {
			t.Fatalf("%q, of %q, was taken for the whole", part, text)
		}
	})
}
