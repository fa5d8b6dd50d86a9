package client

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"iter"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/minio/crc64nvme"

	"deftheron/contract"
	"deftheron/core/remedy"
)

// MakeFolder makes a folder.
func (c *Client) MakeFolder(ctx context.Context, folder contract.NewFolder) (entry contract.Entry, err error) {
	return entry, c.call(ctx, http.MethodPost, "/folders", nil, folder, &entry)
}

// Move moves or renames entries.
func (c *Client) Move(ctx context.Context, move contract.Move) (moved contract.Moved, err error) {
	return moved, c.call(ctx, http.MethodPost, "/moves", nil, move, &moved)
}

// PlanRemoval counts what a removal would remove.
func (c *Client) PlanRemoval(ctx context.Context, addresses []string) (plan contract.RemovalPlan, err error) {
	return plan, c.call(ctx, http.MethodPost, "/removals/plans", nil, contract.Addresses{Addresses: addresses}, &plan)
}

// Remove removes the entries that were counted and confirmed.
func (c *Client) Remove(ctx context.Context, removal contract.Removal) (removed contract.Removed, err error) {
	return removed, c.call(ctx, http.MethodPost, "/removals", nil, removal, &removed)
}

// Space returns the space of each account, and together.
func (c *Client) Space(ctx context.Context) (spaces contract.Spaces, err error) {
	return spaces, c.call(ctx, http.MethodGet, "/space", nil, nil, &spaces)
}

// Content is a file that is being read. The caller closes it.
type Content struct {
	io.ReadCloser
	Size     int64 // from the offset on; -1 is unknown
	Revision string
}

// Read opens a file, from an offset on. A body that breaks off gives
// io.ErrUnexpectedEOF.
func (c *Client) Read(ctx context.Context, address string, offset int64) (*Content, error) {
	return c.read(ctx, url.Values{"address": {address}}, offset)
}

// Export opens a document in a format; empty takes its default.
func (c *Client) Export(ctx context.Context, address, format string) (*Content, error) {
	return c.read(ctx, url.Values{"address": {address}, "as": {format}}, 0)
}

func (c *Client) read(ctx context.Context, query url.Values, offset int64) (*Content, error) {
	header := http.Header{}
	if offset > 0 {
		header.Set("Range", "bytes="+strconv.FormatInt(offset, 10)+"-")
	}
	response, err := c.request(ctx, http.MethodGet, "/content", query, nil, header)
	if err != nil {
		return nil, err
	}
	revision, _ := contract.RevisionOfTag(response.Header.Get("ETag"))
	return &Content{ReadCloser: response.Body, Size: response.ContentLength, Revision: revision}, nil
}

// Upload is content that is to become a file.
type Upload struct {
	// Address of the file; or, with Names, of the folder below which it is,
	// each step as it is, with nothing escaped.
	Address string
	Names   []string
	Size    int64 // in bytes; -1 is unknown
	// Modified is the time to keep, where the account can.
	Modified time.Time
	// Replace is the revision that may be replaced; empty: nothing may be there.
	Replace string
	Body    io.Reader
}

// Write writes a file and compares the content that the service received with the content sent.
func (c *Client) Write(ctx context.Context, upload Upload) (uploaded contract.Uploaded, err error) {
	query := url.Values{"address": {upload.Address}, "name": upload.Names}
	if !upload.Modified.IsZero() {
		query.Set("modified", upload.Modified.UTC().Format(time.RFC3339Nano))
	}
	sum := crc64nvme.New()
	read := &readError{Reader: upload.Body}
	body := io.TeeReader(read, sum)
	if upload.Size == 0 {
		body = http.NoBody
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPut, c.address("/content", query), body)
	if err != nil {
		return uploaded, err
	}
	request.ContentLength = upload.Size
	request.Header.Set("Content-Type", "application/octet-stream")
	if upload.Replace != "" {
		request.Header.Set("If-Match", contract.EntityTag(upload.Replace))
	}
	// What is refused is refused before it is sent.
	request.Header.Set("Expect", "100-continue")
	response, err := c.send(request)
	if read.err != nil {
		err = read.err // ours, not the service's
	}
	if err != nil {
		return uploaded, err
	}
	defer response.Body.Close()
	if err := json.NewDecoder(response.Body).Decode(&uploaded); err != nil {
		return uploaded, err
	}
	if sent := hex.EncodeToString(sum.Sum(nil)); uploaded.Received != sent {
		return uploaded, remedy.Errorf("the service received other bytes than were sent for %s (crc64nvme %s, sent %s); send it again",
			uploaded.Address, uploaded.Received, sent)
	}
	return uploaded, nil
}

// readError keeps the error of the content that is sent.
type readError struct {
	io.Reader
	err error
}

func (r *readError) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	if err != nil && err != io.EOF {
		r.err = err
	}
	return n, err
}

// Comparing are the parameters of a comparison.
type Comparing struct {
	Here, There string
	// HereAt and ThereAt are the times whose states are compared; zero means now.
	HereAt, ThereAt time.Time
	Read            bool // contents, where no evidence is told
	All             bool // tell what is equal, too
}

// Compare yields the lines of a comparison, the summary last.
func (c *Client) Compare(ctx context.Context, comparing Comparing) iter.Seq2[contract.Compared, error] {
	query := url.Values{"here": {comparing.Here}, "there": {comparing.There}, "read": {strconv.FormatBool(comparing.Read)},
		"all": {strconv.FormatBool(comparing.All)}}
	setAt(query, "here_at", comparing.HereAt)
	setAt(query, "there_at", comparing.ThereAt)
	return lines(func() (*http.Response, error) { return c.request(ctx, http.MethodGet, "/comparison", query, nil, nil) },
		"the comparison broke off before its end; compare again", func(line contract.Compared) (last bool, problem *contract.Problem) {
			return line.Summary != nil, line.Problem
		})
}

// lines yields the values of an answer of one JSON value a line, up to the last one. An
// answer without it is an error, in the words given.
func lines[T any](ask func() (*http.Response, error), broken string,
	end func(T) (last bool, problem *contract.Problem)) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		var line T
		response, err := ask()
		if err != nil {
			yield(line, err)
			return
		}
		defer response.Body.Close()
		for decoder := json.NewDecoder(response.Body); ; {
			var line T
			err := decoder.Decode(&line)
			if errors.Is(err, io.EOF) {
				err = errors.New(broken)
			}
			last, problem := end(line)
			if err == nil && problem != nil {
				err = problem
			}
			if !yield(line, err) || err != nil || last {
				return
			}
		}
	}
}
