package client

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"deftheron/contract"
)

// DrivePrefix begins the path of the network drive on a service.
const DrivePrefix = "/dav"

// Drive is the tree as a network drive: its documents are files, and every name leads to one entry. A
// path is an address of the tree, such as /desk/Reports.
type Drive struct{ client *Client }

// Drive returns the network drive of the service.
func (c *Client) Drive() *Drive { return &Drive{c} }

// URL is the address under which other programs use the drive.
func (d *Drive) URL() string { return strings.TrimSuffix(d.client.URL, "/") + DrivePrefix + "/" }

// DriveEntry is an entry of the drive.
type DriveEntry struct {
	Name   string
	Folder bool
	// Size is in bytes; -1 if it is known only once the file is read.
	Size     int64
	Modified time.Time
	// ETag is the entity tag of the content; empty if there is none.
	ETag string
}

// DriveError is an unexpected answer of the drive.
type DriveError struct {
	Status int
	Text   string
}

// Error implements error.
func (e *DriveError) Error() string { return e.Text }

// request sends a request for a path, and returns the answer, which the caller closes. An answer that
// is a failure is a *DriveError.
func (d *Drive) request(ctx context.Context, method, path string, body io.Reader, size int64, header http.Header) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(d.URL(), "/")+escapePath(path), body)
	if err != nil {
		return nil, fmt.Errorf("%q is not a URL of a service: write it as http://127.0.0.1:8420", d.client.URL)
	}
	for name := range header {
		request.Header.Set(name, header.Get(name))
	}
	if body != nil {
		request.ContentLength = size
	}
	response, err := d.client.send(request)
	var problem *contract.Problem
	if errors.As(err, &problem) {
		return nil, &DriveError{problem.Status, problem.Detail}
	}
	return response, err
}

func escapePath(path string) string {
	steps := strings.Split(path, "/")
	for i, step := range steps {
		if steps[i] = url.PathEscape(step); step == "." || step == ".." {
			steps[i] = strings.ReplaceAll(step, ".", "%2E")
		}
	}
	return strings.Join(steps, "/")
}

// davResponse is one entry of an answer about several.
type davResponse struct {
	Href  string `xml:"DAV: href"`
	Props []struct {
		Status string `xml:"DAV: status"`
		Prop   struct {
			Type struct {
				Collection *struct{} `xml:"DAV: collection"`
			} `xml:"DAV: resourcetype"`
			Length    string `xml:"DAV: getcontentlength"`
			Modified  string `xml:"DAV: getlastmodified"`
			ETag      string `xml:"DAV: getetag"`
			Available string `xml:"DAV: quota-available-bytes"`
			Used      string `xml:"DAV: quota-used-bytes"`
		} `xml:"DAV: prop"`
	} `xml:"DAV: propstat"`
}

func (r *davResponse) entry() (entry DriveEntry, err error) {
	steps := strings.Split(strings.Trim(r.Href, "/"), "/")
	entry.Size = -1
	if entry.Name, err = url.PathUnescape(steps[len(steps)-1]); err != nil {
		return entry, err
	}
	for _, one := range r.Props {
		if !strings.Contains(one.Status, " 200 ") {
			continue
		}
		entry.Folder, entry.ETag = one.Prop.Type.Collection != nil, one.Prop.ETag
		if size, err := strconv.ParseInt(one.Prop.Length, 10, 64); err == nil {
			entry.Size = size
		}
		entry.Modified, _ = http.ParseTime(one.Prop.Modified)
	}
	return entry, nil
}

const entryProperties = `<propfind xmlns="DAV:"><prop><resourcetype/><getcontentlength/><getlastmodified/><getetag/></prop></propfind>`

// propfind calls each with every entry of an answer, the one at the path first.
func (d *Drive) propfind(ctx context.Context, path, depth, properties string, each func(*davResponse) error) error {
	response, err := d.request(ctx, "PROPFIND", path, strings.NewReader(properties), int64(len(properties)), http.Header{"Depth": {depth}})
	if err != nil {
		return err
	}
	defer response.Body.Close()
	decoder := xml.NewDecoder(response.Body)
	for {
		token, err := decoder.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the listing of %s broke off: %w", path, err)
		}
		start, ok := token.(xml.StartElement)
		if !ok || start.Name.Local != "response" {
			continue
		}
		var one davResponse
		if err := decoder.DecodeElement(&one, &start); err != nil {
			return fmt.Errorf("the listing of %s broke off: %w", path, err)
		}
		if err := each(&one); err != nil {
			return err
		}
	}
}

// List returns the entries of a folder.
func (d *Drive) List(ctx context.Context, path string) (entries []DriveEntry, err error) {
	first := true
	err = d.propfind(ctx, path, "1", entryProperties, func(one *davResponse) error {
		if first { // the folder itself
			first = false
			return nil
		}
		entry, err := one.entry()
		entries = append(entries, entry)
		return err
	})
	return entries, err
}

// Stat looks at an entry.
func (d *Drive) Stat(ctx context.Context, path string) (entry DriveEntry, err error) {
	err = d.propfind(ctx, path, "0", entryProperties, func(one *davResponse) (err error) {
		entry, err = one.entry()
		return err
	})
	return entry, err
}

// Space returns how many bytes of the account of a folder are used and free; -1 is unknown.
func (d *Drive) Space(ctx context.Context, path string) (used, free int64, err error) {
	used, free = -1, -1
	const properties = `<propfind xmlns="DAV:"><prop><quota-available-bytes/><quota-used-bytes/></prop></propfind>`
	return used, free, d.propfind(ctx, path, "0", properties, func(one *davResponse) error {
		for _, part := range one.Props {
			if bytes, err := strconv.ParseInt(part.Prop.Available, 10, 64); err == nil {
				free = bytes
			}
			if bytes, err := strconv.ParseInt(part.Prop.Used, 10, 64); err == nil {
				used = bytes
			}
		}
		return nil
	})
}

// Read reads a file from an offset, of the content with an entity tag (empty: any). A length of 0 is
// up to the end. The caller closes the body.
func (d *Drive) Read(ctx context.Context, path, etag string, offset, length int64) (io.ReadCloser, error) {
	header := http.Header{}
	if etag != "" {
		header.Set("If-Match", etag)
	}
	switch {
	case length > 0:
		header.Set("Range", fmt.Sprintf("bytes=%d-%d", offset, offset+length-1))
	case offset > 0:
		header.Set("Range", fmt.Sprintf("bytes=%d-", offset))
	}
	response, err := d.request(ctx, http.MethodGet, path, nil, 0, header)
	if err != nil {
		return nil, err
	}
	if header.Get("Range") != "" && response.StatusCode != http.StatusPartialContent && offset > 0 {
		response.Body.Close()
		return nil, &DriveError{http.StatusNotImplemented, path + " can be read from its start alone."}
	}
	return response.Body, nil
}

// Write writes a file in place of the content with an entity tag; where nothing is, if that is empty.
// It returns the tag of the new content. A zero modified is now.
func (d *Drive) Write(ctx context.Context, path, etag string, content io.Reader, size int64, modified time.Time) (string, error) {
	header := http.Header{"If-None-Match": {"*"}}
	if etag != "" {
		header = http.Header{"If-Match": {etag}}
	}
	if !modified.IsZero() {
		header.Set(contract.ModifiedHeader, modified.UTC().Format(time.RFC3339Nano))
	}
	if size == 0 {
		content = http.NoBody
	}
	response, err := d.request(ctx, http.MethodPut, path, content, size, header)
	if err != nil {
		return "", err
	}
	response.Body.Close()
	return response.Header.Get("ETag"), nil
}

// MakeFolder makes a folder.
func (d *Drive) MakeFolder(ctx context.Context, path string) error {
	return d.do(ctx, "MKCOL", path, nil)
}

// Remove removes a file, or a folder with nothing in it.
func (d *Drive) Remove(ctx context.Context, path string) error {
	return d.do(ctx, http.MethodDelete, path, http.Header{"Depth": {"0"}})
}

// Move moves an entry, and replaces the entry at its new path.
func (d *Drive) Move(ctx context.Context, from, to string) error {
	return d.do(ctx, "MOVE", from, http.Header{"Destination": {DrivePrefix + escapePath(to)}, "Overwrite": {"T"}})
}

func (d *Drive) do(ctx context.Context, method, path string, header http.Header) error {
	response, err := d.request(ctx, method, path, nil, 0, header)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode == http.StatusMultiStatus {
		return &DriveError{http.StatusForbidden, "Some of what is in " + path + " could not be changed."}
	}
	return nil
}
