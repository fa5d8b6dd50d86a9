// Package content reads stored files for HTTP: with ranges, by their types, and so that a browser
// that shows one can be done no harm.
package content

import (
	"mime"
	"path"
	"strings"
)

// Policy is the Content-Security-Policy of a stored file: should it be a page, it can do nothing.
const Policy = "default-src 'none'; sandbox; frame-ancestors 'none'"

// shownTypes are those that a browser shows and that can do nothing.
var shownTypes = map[string]string{
	".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".gif": "image/gif", ".webp": "image/webp", ".avif": "image/avif",
	".bmp": "image/bmp",
	".svg": "image/svg+xml", ".pdf": "application/pdf",
	".mp3": "audio/mpeg", ".ogg": "audio/ogg", ".oga": "audio/ogg", ".opus": "audio/ogg", ".wav": "audio/wav", ".flac": "audio/flac",
	".m4a": "audio/mp4", ".aac": "audio/aac",
	".mp4": "video/mp4", ".m4v": "video/mp4", ".webm": "video/webm", ".ogv": "video/ogg", ".mov": "video/quicktime",
}

// TypeOf returns the type of a file by its name, and whether a browser may show it.
func TypeOf(name string) (kind string, shows bool) {
	extension := strings.ToLower(path.Ext(name))
	if kind, ok := shownTypes[extension]; ok {
		return kind, true
	}
	kind = mime.TypeByExtension(extension)
	if strings.HasPrefix(kind, "text/") || extension == "" {
		return "text/plain; charset=utf-8", true
	}
	if kind == "" {
		kind = "application/octet-stream"
	}
	return kind, false
}
