package gateway

import (
	"bufio"
	"context"
	"encoding/xml"
	"iter"
	"net/http"
	"strings"

	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// mostTimes is how many moments of an account's history are listed.
const mostTimes = 1000

// item is an entry that is described to a client.
type item struct {
	place place
	node  tree.Node
	name  string // shown to people
	dead  []records.Property
	locks []*held
}

// folder is an item that is no entry of an account.
func folder(at place, name string) item {
	return item{place: at, name: name, node: tree.Node{Address: at.address, Entry: store.Entry{Name: name, Kind: store.KindFolder}}}
}

func (i *item) href() string { return i.place.href(i.node.Address, i.node.Kind) }

// wanted are the properties that a client asks for.
type wanted struct {
	names []xml.Name
	// all asks for those that cost nothing, and those set by clients; bare for their names alone.
	all, bare bool
}

func (w *wanted) includes(names ...string) bool {
	for _, one := range w.names {
		for _, name := range names {
			if one.Space == dav && one.Local == name {
				return true
			}
		}
	}
	return false
}

func readWanted(q *request) (*wanted, error) {
	root, err := readXML(q.w, q.Request)
	if err != nil {
		return nil, err
	}
	if root == nil {
		return &wanted{all: true}, nil
	}
	if root.name != (xml.Name{Space: dav, Local: "propfind"}) {
		return nil, errXML
	}
	w := &wanted{all: root.child("allprop") != nil, bare: root.child("propname") != nil}
	for _, list := range []string{"prop", "include"} {
		if listed := root.child(list); listed != nil && (list == "prop" || w.all) {
			for _, one := range listed.children {
				w.names = append(w.names, one.name)
			}
		}
	}
	if !w.all && !w.bare && root.child("prop") == nil {
		return nil, errXML
	}
	return w, nil
}

// propfind describes an entry, and with a depth of 1 what is in it (RFC 4918, section 9.1). Large
// folders are streamed; an answer that breaks off says that it is not complete.
func (g *Gateway) propfind(q *request) error {
	depth := q.Header.Get("Depth")
	if depth != "0" && depth != "1" {
		if depth != "" && !strings.EqualFold(depth, "infinity") {
			return fail(http.StatusBadRequest, "", "the depth %q is none of 0, 1 and infinity", depth)
		}
		return fail(http.StatusForbidden, "<D:propfind-finite-depth/>", "folders are listed one at a time")
	}
	want, err := readWanted(q)
	if err != nil {
		return err
	}
	self, err := g.find(q.ctx, q.place)
	if err != nil {
		return err
	}
	if err := g.describe(q.ctx, &self); err != nil {
		return err
	}
	out := &multistatus{g: g, w: q.w, ctx: q.ctx, want: want}
	if depth == "0" || self.node.Kind != store.KindFolder {
		out.item(&self)
		return out.end(nil)
	}
	dead, err := g.propertiesIn(q.ctx, &self)
	if err != nil {
		return err
	}
	started := false
	for child, err := range g.children(q.ctx, &self) {
		if err != nil {
			if !started {
				return err
			}
			return out.end(err)
		}
		if !started {
			out.item(&self)
			started = true
		}
		key := child.node.Name
		if child.node.Kind == store.KindFolder {
			key += "/"
		}
		child.dead = dead[key]
		if child.locks, err = g.locksOn(q.ctx, &child); err != nil {
			return out.end(err)
		}
		out.item(&child)
	}
	if !started {
		out.item(&self)
	}
	return out.end(nil)
}

// find looks at what a path leads to.
func (g *Gateway) find(ctx context.Context, at place) (item, error) {
	switch at.level {
	case levelHistory:
		return folder(at, historyName), nil
	case levelHistoryAccount:
		account := at
		account.address.Steps = nil
		if tree.Sees(ctx, account.address) == tree.Hidden {
			return item{}, store.Errorf(store.ErrNotFound, "%s does not exist", at.address)
		}
		_, err := g.Tree.Accounts.Open(ctx, at.address.Account)
		return folder(at, at.address.Account), err
	}
	node, err := g.treeOf(at).Stat(ctx, at.address)
	if err != nil {
		return item{}, err
	}
	node.Address = at.address
	return item{place: at, node: node, name: node.Name}, nil
}

// treeOf is the tree that a path is of.
func (g *Gateway) treeOf(at place) *tree.Tree {
	if at.level == levelHistoryAtMoment {
		return &tree.Tree{Accounts: Files(g.Service.PastTree(at.at).Accounts)}
	}
	return g.Tree
}

// children yields what is in a folder.
func (g *Gateway) children(ctx context.Context, of *item) iter.Seq2[item, error] {
	at := of.place
	switch at.level {
	case levelHistoryAccount:
		return g.moments(ctx, at)
	case levelHistoryAtMoment:
		return items(at, g.treeOf(at).List(ctx, at.address))
	case levelHistory:
		return func(yield func(item, error) bool) {
			for node, err := range g.Tree.List(ctx, store.Address{}) {
				if !yield(folder(place{level: levelHistoryAccount, address: node.Address}, node.Name), err) {
					return
				}
			}
		}
	}
	nodes, _ := g.Recent.List(ctx, at.address, false)
	if !at.address.IsRoot() {
		return items(at, nodes)
	}
	return func(yield func(item, error) bool) {
		if yield(folder(place{level: levelHistory}, historyName), nil) {
			items(at, nodes)(yield)
		}
	}
}

// items are nodes of a folder. One without a name has no path here, and is left out.
func items(at place, nodes iter.Seq2[tree.Node, error]) iter.Seq2[item, error] {
	return func(yield func(item, error) bool) {
		for node, err := range nodes {
			if err == nil && node.Name == "" {
				continue
			}
			within := at
			within.address = node.Address
			if !yield(item{place: within, node: node, name: node.Name}, err) {
				return
			}
		}
	}
}

// moments yields the times at which an account can be looked at: just before each run that changed
// something.
func (g *Gateway) moments(ctx context.Context, at place) iter.Seq2[item, error] {
	return func(yield func(item, error) bool) {
		times, err := g.Service.Times(ctx, at.address.Account, mostTimes)
		if err != nil {
			yield(item{}, err)
			return
		}
		for _, moment := range times {
			then := place{level: levelHistoryAtMoment, address: store.Address{Account: at.address.Account}, at: moment.UTC()}
			one := folder(then, then.at.Format(timeForm))
			one.node.Modified = moment
			if !yield(one, nil) {
				return
			}
		}
	}
}

// describe adds to an item what clients have set and locked there.
func (g *Gateway) describe(ctx context.Context, one *item) (err error) {
	if !one.place.inTree() || len(one.node.Address.Steps) == 0 {
		return nil
	}
	account, ref, err := g.recordOf(ctx, one)
	if err != nil {
		return err
	}
	if one.dead, err = g.DB.Properties(ctx, account, ref); err != nil {
		return err
	}
	one.locks, err = g.locksOn(ctx, one)
	return err
}

// recordOf is where the properties of an entry are in the records.
func (g *Gateway) recordOf(ctx context.Context, one *item) (account string, ref store.Ref, err error) {
	account, err = g.Service.AccountID(ctx, one.node.Address.Account)
	place, _ := one.node.Address.Place()
	return account, place.As(kindOf(one.node.Kind)), err
}

// kindOf counts documents and the like as files.
func kindOf(kind store.Kind) store.Kind {
	if kind == store.KindFolder {
		return kind
	}
	return store.KindFile
}

// propertiesIn returns what clients have set of the entries in a folder, by their names.
func (g *Gateway) propertiesIn(ctx context.Context, one *item) (map[string][]records.Property, error) {
	if !one.place.inTree() || one.node.Address.IsRoot() {
		return nil, nil
	}
	account, ref, err := g.recordOf(ctx, one)
	if err != nil {
		return nil, err
	}
	all, err := g.DB.PropertiesIn(ctx, account, ref.AsFolder().Path)
	byName := map[string][]records.Property{}
	for _, property := range all {
		byName[property.Name] = append(byName[property.Name], property)
	}
	return byName, err
}

func (g *Gateway) locksOn(ctx context.Context, one *item) ([]*held, error) {
	if !one.place.inTree() || len(one.node.Address.Steps) == 0 {
		return nil, nil
	}
	return g.locks.covering(ctx, g, one.node.Address)
}

// multistatus writes an answer about several entries (RFC 4918, section 13), while they are found.
type multistatus struct {
	g    *Gateway
	w    http.ResponseWriter
	ctx  context.Context
	want *wanted
	out  *bufio.Writer
}

func (m *multistatus) begin() {
	if m.out == nil {
		m.w.Header().Set("Content-Type", xmlType)
		m.w.WriteHeader(http.StatusMultiStatus)
		m.out = bufio.NewWriterSize(m.w, 32<<10)
		m.write(xmlHead, "<D:multistatus xmlns:D=\"DAV:\">\n")
	}
}

func (m *multistatus) write(parts ...string) {
	for _, part := range parts {
		_, _ = m.out.WriteString(part) // the first error is kept, and Flush returns it
	}
}

// end ends the answer. After an error it is broken off, so that nobody takes it for complete.
func (m *multistatus) end(err error) error {
	m.begin()
	if err != nil {
		m.g.Log.Warn("the listing of a folder broke off", "error", err)
		panic(http.ErrAbortHandler)
	}
	m.write("</D:multistatus>\n")
	if err := m.out.Flush(); err != nil {
		panic(http.ErrAbortHandler)
	}
	return nil
}

// item writes the properties of an item.
func (m *multistatus) item(one *item) {
	m.begin()
	m.write("<D:response><D:href>", escape(one.href()), "</D:href>")
	found, missing := m.g.properties(m.ctx, one, m.want)
	if len(found) > 0 || len(missing) == 0 {
		m.propstat(found, http.StatusOK)
	}
	if len(missing) > 0 {
		m.propstat(missing, http.StatusNotFound)
	}
	m.write("</D:response>\n")
}

func (m *multistatus) propstat(properties []string, status int) {
	m.write("<D:propstat><D:prop>")
	m.write(properties...)
	m.write("</D:prop><D:status>", statusLine(status), "</D:status></D:propstat>")
}

// failed writes that an entry could not be changed.
func (m *multistatus) failed(address store.Address, kind store.Kind, status int) {
	m.begin()
	m.write("<D:response><D:href>", escape(place{}.href(address, kind)), "</D:href><D:status>", statusLine(status),
		"</D:status></D:response>\n")
}
