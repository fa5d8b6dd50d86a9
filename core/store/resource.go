package store

import "context"

// Resource is one of the places behind a sign-in: a bucket, a share, an area.
type Resource struct {
	// Value is what the option is given to link it.
	Value string
	// Title is its name for people, where that is another.
	Title string
	// Note is a description, such as the purpose of a share.
	Note string
}

// ResourceLister is the ability of a provider to tell which places a sign-in leads
// to, before one of them is chosen.
type ResourceLister interface {
	// ResourceOption is the option that one of them is chosen by.
	ResourceOption() string
	// ListResources signs in and returns them, sorted by value. Of the options,
	// that one is not given.
	ListResources(ctx context.Context, opening Opening) ([]Resource, error)
}

// IdentityProber is the ability of a provider to return what a server shows before a
// sign-in, such as its key, so that a person can compare it.
type IdentityProber interface {
	// IdentityOption is the option that holds a server to it.
	IdentityOption() string
	// ProbeIdentity asks the server, and returns the option's value and its
	// description. An empty value means that there is nothing to compare.
	ProbeIdentity(ctx context.Context, opening Opening) (value, words string, err error)
}
