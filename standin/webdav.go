package standin

import (
	"crypto/subtle"
	"net/http"

	"golang.org/x/net/webdav"
)

// WebDAV returns a WebDAV server of a folder on disk, below "/". With a user it
// asks for a sign-in by Basic.
func WebDAV(folder, user, password string) http.Handler {
	handler := &webdav.Handler{FileSystem: webdav.Dir(folder), LockSystem: webdav.NewMemLS()}
	if user == "" {
		return handler
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		gotUser, gotPassword, _ := r.BasicAuth()
		if subtle.ConstantTimeCompare([]byte(gotUser+"\x00"+gotPassword), []byte(user+"\x00"+password)) != 1 {
			w.Header().Set("WWW-Authenticate", `Basic realm="stand-in", charset="UTF-8"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		handler.ServeHTTP(w, r)
	})
}
