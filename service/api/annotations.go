package api

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/annotations"
	"deftheron/service/messages"
	"deftheron/service/records"
)

func (s *Server) registerAnnotations(api huma.API) {
	add(api, http.MethodGet, "/annotations", "show-annotations", "Show the tags, comments and lock of a file or folder", http.StatusOK,
		s.showAnnotations)
	add(api, http.MethodGet, "/annotated", "list-annotated", "List files and folders with tags, comments or locks", http.StatusOK,
		s.listAnnotated)
	add(api, http.MethodPost, "/annotations/imports", "import-annotations", "Give files and folders the tags and comments of an export",
		http.StatusOK, s.importAnnotations)
	add(api, http.MethodGet, "/tags", "list-tags", "List tags, the most frequent first", http.StatusOK, s.listTags)
	add(api, http.MethodPost, "/tags", "tag", "Add and remove tags", http.StatusOK, s.tag)
	add(api, http.MethodPost, "/comments", "add-comment", "Comment on a file or folder", http.StatusCreated, s.addComment)
	add(api, http.MethodPut, "/comments/{id}", "edit-comment", "Change a comment of one's own", http.StatusNoContent, s.editComment)
	add(api, http.MethodDelete, "/comments/{id}", "remove-comment", "Delete a comment", http.StatusNoContent, s.removeComment)
	add(api, http.MethodGet, "/locks", "list-locks", "List locks", http.StatusOK, s.listLocks)
	add(api, http.MethodPost, "/locks", "lock", "Lock files and folders", http.StatusOK, s.takeLocks)
	add(api, http.MethodPost, "/unlocks", "unlock", "End locks", http.StatusOK, s.endLocks)
}

// annotate adds the annotations to entries of a folder.
func (s *Server) annotate(ctx context.Context, folder store.Address, nodes []tree.Node, entries []contract.Entry) error {
	noted, err := s.Annotations.In(ctx, folder, nodes)
	if err != nil {
		return err
	}
	for i, one := range noted {
		if one == nil {
			continue
		}
		entries[i].Tags, entries[i].Comments, entries[i].Lock = one.Tags, one.CommentCount, shownLock(ctx, one.Lock)
	}
	return nil
}

func shownLock(ctx context.Context, lock *records.Lock) *contract.Lock {
	if lock == nil {
		return nil
	}
	return &contract.Lock{By: lock.By, Since: lock.At, Until: lock.Until, Reason: lock.Reason, Own: lock.User == person(ctx).User,
		AtServer: lock.Token != ""}
}

func shownAnnotations(ctx context.Context, address store.Address, one *records.Annotated) contract.Annotations {
	shown := contract.Annotations{Address: address.String(), Kind: string(one.Place().Kind), Tags: one.Tags, Comments: []contract.Comment{},
		Lock: shownLock(ctx, one.Lock), Missing: one.MissingAt}
	if shown.Tags == nil {
		shown.Tags = []string{}
	}
	for _, comment := range one.Comments {
		shown.Comments = append(shown.Comments, shownComment(ctx, comment))
	}
	return shown
}

func shownComment(ctx context.Context, comment records.Comment) contract.Comment {
	return contract.Comment{ID: comment.ID, By: comment.By, At: comment.At, Edited: comment.EditedAt, Text: comment.Text,
		Own: comment.User != "" && comment.User == person(ctx).User}
}

// noted returns the entry at an address with its annotations. If changing is set, the caller
// must be allowed to change it.
func (s *Server) noted(ctx context.Context, text string, changing bool) (one annotations.Entry, err error) {
	address, err := store.ParseAddress(text)
	if err != nil {
		return one, err
	}
	if changing {
		err = tree.CheckChange(ctx, address)
	} else if !address.IsRoot() {
		err = tree.CheckSeen(ctx, address)
	}
	if err == nil {
		one, err = s.Annotations.Of(ctx, address)
	}
	if err != nil {
		return one, s.explain(ctx, address, err)
	}
	return one, s.Annotations.Fill(ctx, &one)
}

// AddressInput names an entry.
type AddressInput struct {
	Address string `query:"address" required:"true"`
}

func (s *Server) showAnnotations(ctx context.Context, in *AddressInput) (*body[contract.Annotations], error) {
	one, err := s.noted(ctx, in.Address, false)
	if err != nil {
		return nil, err
	}
	return &body[contract.Annotations]{shownAnnotations(ctx, one.Address, &one.Annotated)}, nil
}

// AnnotatedInput are the parameters of the list.
type AnnotatedInput struct {
	In     string `query:"in" doc:"Address of a folder below which it is listed; everywhere unless given."`
	Tag    string `query:"tag" doc:"Only what has this tag."`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"200"`
	Cursor string `query:"cursor" doc:"next of the page before."`
}

func (s *Server) listAnnotated(ctx context.Context, in *AnnotatedInput) (*body[contract.AnnotatedPage], error) {
	var after annotations.Cursor
	if in.Cursor != "" {
		text, err := base64.RawURLEncoding.DecodeString(in.Cursor)
		if err != nil || json.Unmarshal(text, &after) != nil {
			return nil, remedy.Errorf("the cursor is not one of this service; start with the first page")
		}
	}
	var folder store.Address
	if in.In != "" {
		var err error
		if folder, err = store.ParseAddress(in.In); err != nil {
			return nil, err
		}
		if !folder.IsRoot() && tree.Sees(ctx, folder) == tree.Hidden {
			return nil, tree.CheckSeen(ctx, folder)
		}
	}
	found, next, err := s.Annotations.Below(ctx, folder, in.Tag, after, in.Limit)
	if err != nil {
		return nil, err
	}
	page := contract.AnnotatedPage{Entries: []contract.Annotations{}}
	for i := range found {
		page.Entries = append(page.Entries, shownAnnotations(ctx, found[i].Address, &found[i].Annotated))
	}
	if next != nil {
		text, err := json.Marshal(next)
		if err != nil {
			return nil, err
		}
		page.Next = base64.RawURLEncoding.EncodeToString(text)
	}
	return &body[contract.AnnotatedPage]{page}, nil
}

// mostTagsListed is how many tags are listed.
const mostTagsListed = 1000

func (s *Server) listTags(ctx context.Context, _ *none) (*body[[]contract.TagCount], error) {
	counts, err := s.Annotations.CountTags(ctx, mostTagsListed)
	shown := []contract.TagCount{}
	for _, one := range counts {
		shown = append(shown, contract.TagCount(one))
	}
	return &body[[]contract.TagCount]{shown}, err
}

func (s *Server) tag(ctx context.Context, in *body[contract.Tagging]) (*body[contract.Noted], error) {
	if len(in.Body.Add)+len(in.Body.Remove) == 0 {
		return nil, remedy.Errorf("no tag is given; name one to add or to remove")
	}
	entries, err := s.notedAll(ctx, in.Body.Addresses)
	if err != nil {
		return nil, err
	}
	var noted contract.Noted
	for _, one := range entries {
		changed, err := s.Annotations.Tag(ctx, one, in.Body.Add, in.Body.Remove, person(ctx).Name)
		if err != nil {
			return nil, err
		}
		noted.Changed += changed
	}
	return &body[contract.Noted]{noted}, nil
}

// notedAll returns the entries at addresses that may all be changed, before anything is.
func (s *Server) notedAll(ctx context.Context, addresses []string) (entries []annotations.Entry, err error) {
	for _, text := range addresses {
		one, err := s.noted(ctx, text, true)
		if err != nil {
			return nil, err
		}
		entries = append(entries, one)
	}
	return entries, nil
}

func (s *Server) addComment(ctx context.Context, in *body[contract.NewComment]) (*body[contract.Comment], error) {
	one, err := s.noted(ctx, in.Body.Address, false)
	if err != nil {
		return nil, err
	}
	who := person(ctx)
	added, err := s.Annotations.AddComment(ctx, one, in.Body.Text, who.User, who.Name)
	return &body[contract.Comment]{shownComment(ctx, added)}, err
}

// CommentInput names a comment.
type CommentInput struct {
	ID int64 `path:"id" doc:"The comment's id."`
}

// commentOf returns a comment that who asks may see, and the entry that it is about.
func (s *Server) commentOf(ctx context.Context, id int64) (comment records.Comment, about records.Annotated, entry store.Address,
	err error) {
	missing := messages.With(store.Errorf(store.ErrNotFound, "there is no comment %d; look at the comments of the file", id),
		"heron comment list ADDRESS")
	comment, about, err = s.DB.Comment(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return comment, about, entry, missing
	}
	if err == nil {
		entry, err = s.Annotations.AddressOf(ctx, &about)
	}
	if err == nil && tree.Sees(ctx, entry) != tree.Seen {
		err = missing
	}
	return comment, about, entry, err
}

// EditCommentInput is the new text of a comment.
type EditCommentInput struct {
	CommentInput
	Body contract.CommentText
}

func (s *Server) editComment(ctx context.Context, in *EditCommentInput) (*none, error) {
	comment, about, entry, err := s.commentOf(ctx, in.ID)
	if err == nil && comment.User != person(ctx).User {
		err = store.Errorf(store.ErrRefused, "the comment %d is by %s; only its author can change it", in.ID, comment.By)
	}
	if err != nil {
		return nil, err
	}
	return &none{}, s.Annotations.EditComment(ctx, in.ID, entry, about.Account, in.Body.Text)
}

func (s *Server) removeComment(ctx context.Context, in *CommentInput) (*none, error) {
	comment, about, entry, err := s.commentOf(ctx, in.ID)
	if who := person(ctx); err == nil && comment.User != who.User && who.Role != access.Owner {
		err = store.Errorf(store.ErrRefused, "the comment %d is by %s; only its author or an owner can delete it", in.ID, comment.By)
	}
	if err != nil {
		return nil, err
	}
	return &none{}, s.Annotations.RemoveComment(ctx, in.ID, entry, about)
}

func (s *Server) importAnnotations(ctx context.Context, in *body[contract.Imported]) (*body[contract.ImportResult], error) {
	result := contract.ImportResult{Failed: []contract.Blocker{}}
	for _, entry := range in.Body.Entries {
		one, err := s.noted(ctx, entry.Address, true)
		if err == nil {
			err = s.importOne(ctx, one, entry, &result)
		}
		if err == nil {
			result.Entries++
			continue
		}
		if ctx.Err() != nil {
			return nil, err
		}
		why := problem(err)
		result.Failed = append(result.Failed, contract.Blocker{Address: entry.Address, Cause: why.Cause, Why: why.Detail, Remedy: why.Remedy})
	}
	return &body[contract.ImportResult]{result}, nil
}

func (s *Server) importOne(ctx context.Context, one annotations.Entry, entry contract.Annotations, result *contract.ImportResult) error {
	if len(entry.Tags) > 0 {
		added, err := s.Annotations.Tag(ctx, one, slices.Clone(entry.Tags), nil, person(ctx).Name)
		if err != nil {
			return err
		}
		result.Tags += added
	}
	for _, comment := range entry.Comments {
		isNew, err := s.Annotations.ImportComment(ctx, one, records.Comment{By: comment.By, At: comment.At, EditedAt: comment.Edited,
			Text: comment.Text})
		if err != nil {
			return err
		}
		if isNew {
			result.Comments++
		}
	}
	return nil
}
