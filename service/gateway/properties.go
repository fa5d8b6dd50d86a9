package gateway

import (
	"context"
	"encoding/xml"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/service/content"
	"deftheron/service/records"
)

// live are the properties that the service has of entries, in the namespace DAV:, in the order in
// which they are written. value returns the content as XML; ok is false if an entry has none.
var live = []struct {
	name string
	// dear ones cost a request, and are left out unless they are asked for by name.
	dear  bool
	value func(ctx context.Context, g *Gateway, one *item) (value string, ok bool)
}{
	{"resourcetype", false, func(_ context.Context, _ *Gateway, one *item) (string, bool) {
		if one.node.Kind == store.KindFolder {
			return "<D:collection/>", true
		}
		return "", true
	}},
	{"displayname", false, func(_ context.Context, _ *Gateway, one *item) (string, bool) { return escape(one.name), true }},
	{"getcontentlength", false, func(_ context.Context, _ *Gateway, one *item) (string, bool) {
		return strconv.FormatInt(one.node.Size, 10), one.node.Kind != store.KindFolder && one.node.Size >= 0
	}},
	{"getcontenttype", false, func(_ context.Context, _ *Gateway, one *item) (string, bool) {
		kind, _ := content.TypeOf(one.node.Name)
		return escape(kind), one.node.Kind != store.KindFolder
	}},
	{"getetag", false, func(_ context.Context, _ *Gateway, one *item) (string, bool) {
		return escape(contract.EntityTag(one.node.Revision)), one.node.Kind != store.KindFolder && one.node.Revision != ""
	}},
	{"getlastmodified", false, func(_ context.Context, _ *Gateway, one *item) (string, bool) {
		return one.node.Modified.UTC().Format(http.TimeFormat), one.node.Modified.Unix() > 0
	}},
	{"supportedlock", false, func(_ context.Context, _ *Gateway, one *item) (string, bool) {
		const entry = "<D:lockentry><D:lockscope><D:%s/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockentry>"
		return fmt.Sprintf(entry+entry, "exclusive", "shared"), one.place.inTree() && len(one.node.Address.Steps) > 0
	}},
	{"lockdiscovery", false, func(ctx context.Context, g *Gateway, one *item) (string, bool) {
		if !one.place.inTree() || len(one.node.Address.Steps) == 0 {
			return "", false
		}
		return g.activeLocks(ctx, one), true
	}},
	{"quota-available-bytes", true, func(ctx context.Context, g *Gateway, one *item) (string, bool) {
		return g.quota(ctx, one, func(space store.Space) int64 { return space.Free })
	}},
	{"quota-used-bytes", true, func(ctx context.Context, g *Gateway, one *item) (string, bool) {
		return g.quota(ctx, one, func(space store.Space) int64 { return space.Used })
	}},
}

// quota is a figure of the account that a folder is in (RFC 4331).
func (g *Gateway) quota(ctx context.Context, one *item, figure func(store.Space) int64) (string, bool) {
	if !one.place.inTree() || one.node.Address.IsRoot() || one.node.Kind != store.KindFolder {
		return "", false
	}
	bytes := figure(g.space(ctx, one.node.Address.Account))
	return strconv.FormatInt(bytes, 10), bytes >= 0
}

// activeLocks describes the locks on an entry. The service's own has no token: no client can show it.
func (g *Gateway) activeLocks(ctx context.Context, one *item) string {
	var b strings.Builder
	made := false
	for _, lock := range one.locks {
		b.WriteString(activeLock(lock, lock.Expires.Sub(g.Now())))
		made = made || lock.Made
	}
	if by, _, until, ok := g.Locks.On(ctx, one.node.Address); ok && !made {
		b.WriteString("<D:activelock><D:locktype><D:write/></D:locktype><D:lockscope><D:exclusive/></D:lockscope><D:depth>infinity</D:depth>" +
			"<D:owner>" + escape(by) + "</D:owner><D:timeout>" + seconds(until.Sub(g.Now())) + "</D:timeout></D:activelock>")
	}
	return b.String()
}

func activeLock(lock *held, left time.Duration) string {
	scope, depth := "exclusive", "0"
	if lock.Shared {
		scope = "shared"
	}
	if lock.Deep {
		depth = "infinity"
	}
	return "<D:activelock><D:locktype><D:write/></D:locktype><D:lockscope><D:" + scope + "/></D:lockscope><D:depth>" + depth + "</D:depth>" +
		"<D:owner>" + lock.Owner + "</D:owner><D:timeout>" + seconds(left) + "</D:timeout><D:locktoken><D:href>" + escape(lock.Token) +
		"</D:href></D:locktoken><D:lockroot><D:href>" + escape(place{}.href(lock.address, store.KindFile)) +
		"</D:href></D:lockroot></D:activelock>"
}

func seconds(left time.Duration) string { return fmt.Sprintf("Second-%d", max(0, int(left.Seconds()))) }

func statusLine(status int) string {
	return fmt.Sprintf("HTTP/1.1 %d %s", status, http.StatusText(status))
}

// properties returns those of an item that are asked for, as XML, and the empty elements of those
// that it does not have.
func (g *Gateway) properties(ctx context.Context, one *item, want *wanted) (found, missing []string) {
	written := map[xml.Name]bool{}
	add := func(name xml.Name, element string) {
		if !written[name] {
			found, written[name] = append(found, element), true
		}
	}
	for _, property := range live {
		name := xml.Name{Space: dav, Local: property.name}
		if !want.includes(property.name) && (property.dear || !want.all && !want.bare) {
			continue
		}
		if value, ok := property.value(ctx, g, one); ok && want.bare {
			add(name, "<D:"+property.name+"/>")
		} else if ok {
			add(name, "<D:"+property.name+">"+value+"</D:"+property.name+">")
		}
	}
	byName := map[xml.Name]string{}
	for _, property := range one.dead {
		name := xml.Name{Space: property.Space, Local: property.Local}
		byName[name] = property.XML
		switch {
		case want.bare:
			add(name, emptyElement(name))
		case want.all:
			add(name, property.XML)
		}
	}
	for _, name := range want.names {
		if text, ok := byName[name]; ok {
			add(name, text)
		} else if !written[name] {
			missing = append(missing, emptyElement(name))
		}
	}
	return found, missing
}

func emptyElement(name xml.Name) string {
	return "<" + name.Local + ` xmlns="` + escape(name.Space) + `"/>`
}

// mostEach is how many properties clients may set of one entry, and longestProperty how long one may
// be in bytes.
const mostEach, longestProperty = 100, 16 << 10

// proppatch sets and removes properties, all or none (RFC 4918, section 9.2). Those of the service
// cannot be set.
func (g *Gateway) proppatch(q *request) error {
	root, err := readXML(q.w, q.Request)
	if err != nil {
		return err
	}
	if root == nil || root.name != (xml.Name{Space: dav, Local: "propertyupdate"}) {
		return errXML
	}
	if _, err := g.change(q, q.place); err != nil {
		return err
	}
	if err := g.check(q, change{address: q.place.address}); err != nil {
		return err
	}
	self, err := g.find(q.ctx, q.place)
	if err != nil {
		return err
	}
	updates, refused, err := readUpdates(root)
	if err != nil {
		return err
	}
	out := &multistatus{g: g, w: q.w, ctx: q.ctx}
	if len(refused) == 0 {
		account, ref, err := g.recordOf(q.ctx, &self)
		if err != nil {
			return err
		}
		if err := g.DB.SetProperties(q.ctx, account, ref, updates); err != nil {
			return err
		}
	}
	out.begin()
	out.write("<D:response><D:href>", escape(self.href()), "</D:href>")
	var accepted []string
	for _, one := range updates {
		accepted = append(accepted, emptyElement(xml.Name{Space: one.Space, Local: one.Local}))
	}
	if len(refused) > 0 {
		out.propstat(refused, http.StatusForbidden)
	}
	if status := http.StatusOK; len(accepted) > 0 {
		if len(refused) > 0 {
			status = http.StatusFailedDependency
		}
		out.propstat(accepted, status)
	}
	out.write("</D:response>\n")
	return out.end(nil)
}

// readUpdates reads what a client sets and removes, in its order, and which of that is the service's.
func readUpdates(root *element) (updates []records.Property, refused []string, err error) {
	for _, step := range root.children {
		if step.name.Space != dav || step.name.Local != "set" && step.name.Local != "remove" {
			continue
		}
		listed := step.child("prop")
		if listed == nil {
			return nil, nil, errXML
		}
		for _, one := range listed.children {
			update := records.Property{Space: one.name.Space, Local: one.name.Local}
			if step.name.Local == "set" {
				update.XML = one.property()
			}
			switch {
			case isLive(one.name):
				refused = append(refused, emptyElement(one.name))
			case len(update.XML) > longestProperty || len(updates) == mostEach:
				return nil, nil, fail(http.StatusInsufficientStorage, "", "the properties are too many, or too long")
			default:
				updates = append(updates, update)
			}
		}
	}
	return updates, refused, nil
}

func isLive(name xml.Name) bool {
	if name.Space != dav {
		return false
	}
	for _, one := range live {
		if one.name == name.Local {
			return true
		}
	}
	return false
}
