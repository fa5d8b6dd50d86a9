package client

import (
	"context"
	"iter"
	"net/http"
	"net/url"
	"strconv"

	"deftheron/contract"
)

// Annotations returns the tags, the comments and the lock of a file or folder.
func (c *Client) Annotations(ctx context.Context, address string) (one contract.Annotations, err error) {
	return one, c.call(ctx, http.MethodGet, "/annotations", url.Values{"address": {address}}, nil, &one)
}

// Annotated yields the annotated entries below a folder, or everywhere if in is empty; with a
// tag, only those that have it.
func (c *Client) Annotated(ctx context.Context, in, tag string) iter.Seq2[contract.Annotations, error] {
	return func(yield func(contract.Annotations, error) bool) {
		asked := url.Values{"limit": {"500"}}
		for name, value := range map[string]string{"in": in, "tag": tag} {
			if value != "" {
				asked.Set(name, value)
			}
		}
		for {
			var page contract.AnnotatedPage
			if err := c.call(ctx, http.MethodGet, "/annotated", asked, nil, &page); err != nil {
				yield(contract.Annotations{}, err)
				return
			}
			for _, one := range page.Entries {
				if !yield(one, nil) {
					return
				}
			}
			if page.Next == "" {
				return
			}
			asked.Set("cursor", page.Next)
		}
	}
}

// Tags returns all tags, the most frequent first.
func (c *Client) Tags(ctx context.Context) (tags []contract.TagCount, err error) {
	return tags, c.call(ctx, http.MethodGet, "/tags", nil, nil, &tags)
}

// Tag adds and removes tags.
func (c *Client) Tag(ctx context.Context, tagging contract.Tagging) (noted contract.Noted, err error) {
	return noted, c.call(ctx, http.MethodPost, "/tags", nil, tagging, &noted)
}

// AddComment comments on a file or folder.
func (c *Client) AddComment(ctx context.Context, comment contract.NewComment) (added contract.Comment, err error) {
	return added, c.call(ctx, http.MethodPost, "/comments", nil, comment, &added)
}

// EditComment changes a comment of one's own.
func (c *Client) EditComment(ctx context.Context, id int64, text string) error {
	return c.call(ctx, http.MethodPut, "/comments/"+strconv.FormatInt(id, 10), nil, contract.CommentText{Text: text}, nil)
}

// DeleteComment deletes a comment.
func (c *Client) DeleteComment(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/comments/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

// Locks returns all locks.
func (c *Client) Locks(ctx context.Context) (locked []contract.Annotations, err error) {
	return locked, c.call(ctx, http.MethodGet, "/locks", nil, nil, &locked)
}

// Lock locks files and folders.
func (c *Client) Lock(ctx context.Context, lock contract.NewLock) (locked []contract.Annotations, err error) {
	return locked, c.call(ctx, http.MethodPost, "/locks", nil, lock, &locked)
}

// Unlock ends the locks of files and folders.
func (c *Client) Unlock(ctx context.Context, addresses []string) (noted contract.Noted, err error) {
	return noted, c.call(ctx, http.MethodPost, "/unlocks", nil, contract.Addresses{Addresses: addresses}, &noted)
}

// ImportAnnotations gives files and folders the tags and comments of an export.
func (c *Client) ImportAnnotations(ctx context.Context, entries []contract.Annotations) (result contract.ImportResult, err error) {
	return result, c.call(ctx, http.MethodPost, "/annotations/imports", nil, contract.Imported{Entries: entries}, &result)
}
