// Package tree shows many stores as one tree: the root holds the accounts, and
// an address leads to a place in one of them.
package tree

import (
	"context"
	"iter"
	"slices"
	"strings"

	"deftheron/core/gate"
	"deftheron/core/listing"
	"deftheron/core/store"
)

// Account is one account of the tree, opened.
type Account struct {
	Name  string
	Store store.Store
	Gate  *gate.Gate
	// Tokens lends tokens of the account; nil where its secret itself is needed.
	Tokens store.TokenLender
}

// Accounts are the linked accounts.
type Accounts interface {
	// Names returns their names, sorted.
	Names(ctx context.Context) ([]string, error)
	// Open returns an account, opening it if need be. ErrNotFound where
	// there is none of that name.
	Open(ctx context.Context, name string) (Account, error)
}

// Tree is the tree of all accounts.
type Tree struct {
	Accounts Accounts
}

// Node is one entry of the tree.
type Node struct {
	Address store.Address
	store.Entry
	// Exports are the formats that a document can be exported as, the
	// default first.
	Exports []store.Format
}

func (a Account) node(address store.Address, entry store.Entry) Node {
	node := Node{Address: address, Entry: entry}
	if kind, ok := store.ExportsOf(a.Store, entry); ok {
		node.Exports = kind.Formats
	}
	return node
}

// Located is where an address leads.
type Located struct {
	Account
	Address store.Address
	Place   store.Ref
}

// Locate opens the address's account and returns the place there, without
// looking whether anything is at it. Only steps by id ask the store.
// ErrRefused for the root, which is in no account; ErrNotFound for what the scope of the
// context does not show whole.
func (t *Tree) Locate(ctx context.Context, address store.Address) (Located, error) {
	if address.IsRoot() {
		return Located{}, store.Errorf(store.ErrRefused, "/ is the root of all accounts; name an account, as in /desk")
	}
	account, err := t.Accounts.Open(ctx, address.Account)
	if err != nil {
		return Located{}, err
	}
	if err := CheckSeen(ctx, address); err != nil {
		return Located{}, err
	}
	located := Located{Account: account, Address: address}
	if place, ok := address.Place(); ok {
		located.Place = place
		return located, nil
	}
	for _, step := range address.Steps {
		if located.Place, err = t.step(ctx, account, located.Place.AsFolder(), step); err != nil {
			return Located{}, err
		}
	}
	if address.Folder {
		located.Place = located.Place.As(store.KindFolder)
	}
	return located, nil
}

func (t *Tree) step(ctx context.Context, account Account, folder store.Folder, step store.Step) (store.Ref, error) {
	if step.ID == "" {
		return folder.Ref(step.Name), nil
	}
	for entry, err := range account.Store.List(ctx, folder) {
		if err != nil {
			return store.Ref{}, err
		}
		if entry.ID == step.ID {
			return entry.Ref(folder), nil
		}
	}
	return store.Ref{}, store.Errorf(store.ErrNotFound, "nothing in /%s has the id %q", account.Name, step.ID)
}

// Stat looks at what is at an address. The root and the start of an account
// are folders that bear its name.
func (t *Tree) Stat(ctx context.Context, address store.Address) (Node, error) {
	if address.IsRoot() {
		return Node{Entry: store.Entry{Name: "/", Kind: store.KindFolder}}, nil
	}
	if Sees(ctx, address) == Through {
		if _, err := t.Accounts.Open(ctx, address.Account); err != nil {
			return Node{}, err
		}
		return passed(address, address.Name()), nil
	}
	located, err := t.Locate(ctx, address)
	if err != nil {
		return Node{}, err
	}
	entry, err := located.Store.Stat(ctx, located.Place)
	if err != nil {
		return Node{}, err
	}
	address.Folder = address.Folder && entry.Kind == store.KindFolder && located.Store.Traits().FileBesideFolder
	if entry.Name = address.Name(); entry.Name == "" && len(address.Steps) > 0 && address.Steps[len(address.Steps)-1].ID != "" {
		entry.Name = located.Place.Name
	}
	return located.node(address, entry), nil
}

// List yields what is in a folder, in the order of keys; the accounts where
// it is the root. What is ours, and what the scope of the context hides, is left out. A file
// yields itself.
func (t *Tree) List(ctx context.Context, address store.Address) iter.Seq2[Node, error] {
	if Sees(ctx, address) == Through && !address.IsRoot() {
		return through(ctx, t.List(WithScope(ctx, nil), address))
	}
	return func(yield func(Node, error) bool) {
		if address.IsRoot() {
			t.listRoot(ctx, yield)
			return
		}
		located, err := t.Locate(ctx, address)
		if err != nil {
			yield(Node{}, err)
			return
		}
		folder := located.Place.AsFolder()
		empty := true
		twins := twins{besides: located.Store.Traits().FileBesideFolder}
		for entry, err := range listing.Sorted(ctx, located.Store, folder) {
			if err != nil {
				if empty && store.KindOf(err) == store.ErrNotFound {
					t.listFile(ctx, address, err, yield)
					return
				}
				yield(Node{}, err)
				return
			}
			empty = false
			if store.Ours(folder.Path, entry.Name) {
				continue
			}
			if !twins.add(located.node(address.Child(entry.Name), entry), yield) {
				return
			}
		}
		twins.end(yield)
	}
}

// twins gives entries that have one name in a folder addresses by their ids, and a
// folder that has the name of a file one with a closing slash. It holds one entry
// back, to know whether the next has the same name.
type twins struct {
	held  *Node
	alike bool // the one before the held one has its name
	// besides says that a file and a folder may have one name; files are then the
	// names of those before, each a prefix of the next: between a file and the
	// folder of its name come only names that begin with it.
	besides bool
	files   []string
}

// beside marks the address of a folder that has the name of a file.
func (t *twins) beside(node *Node) {
	for len(t.files) > 0 && !strings.HasPrefix(node.Name, t.files[len(t.files)-1]) {
		t.files = t.files[:len(t.files)-1]
	}
	if node.Kind != store.KindFolder {
		t.files = append(t.files, node.Name)
	} else if slices.Contains(t.files, node.Name) {
		node.Address.Folder = true
	}
}

func (t *twins) add(node Node, yield func(Node, error) bool) bool {
	if t.besides {
		t.beside(&node)
	}
	same := t.held != nil && t.held.Name == node.Name && (t.held.Kind == store.KindFolder) == (node.Kind == store.KindFolder)
	if t.held != nil && !t.give(same, yield) {
		return false
	}
	t.held, t.alike = &node, same
	return true
}

func (t *twins) give(alike bool, yield func(Node, error) bool) bool {
	node := *t.held
	if (alike || t.alike) && node.ID != "" {
		node.Address = node.Address.Parent().ByID(node.ID)
	}
	return yield(node, nil)
}

func (t *twins) end(yield func(Node, error) bool) {
	if t.held != nil {
		t.give(false, yield)
	}
}

func (t *Tree) listRoot(ctx context.Context, yield func(Node, error) bool) {
	names, err := t.Accounts.Names(ctx)
	if err != nil {
		yield(Node{}, err)
		return
	}
	for _, name := range names {
		if !yield(Node{Address: store.Address{Account: name}, Entry: store.Entry{Name: name, Kind: store.KindFolder}}, nil) {
			return
		}
	}
}

// listFile yields the file at an address that turned out to be no folder.
func (t *Tree) listFile(ctx context.Context, address store.Address, missing error, yield func(Node, error) bool) {
	node, err := t.Stat(ctx, address)
	switch {
	case err == nil && node.Kind != store.KindFolder:
		yield(node, nil)
	case err == nil || store.KindOf(err) == store.ErrNotFound:
		yield(Node{}, missing)
	default:
		yield(Node{}, err)
	}
}
