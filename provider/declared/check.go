package declared

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"deftheron/provider/declared/skeleton"
)

var providerName = skeleton.Named

// check finds what each field by itself does not show.
func (d *Definition) check(root *yaml.Node) error {
	wrong := func(field, format string, args ...any) error {
		return &Problem{Line: lineAt(root, field), Field: field, Reason: fmt.Sprintf(format, args...)}
	}
	if !providerName.MatchString(d.Name) {
		return wrong("name", "%q cannot be a provider's name: use 1 to 40 lower-case letters, digits and hyphens, a letter first", d.Name)
	}
	if d.Addressed == "id" && !d.Start.Given() {
		return wrong("start", "it is missing: where entries are addressed by id, it says which folder everything is in")
	}
	if d.Addressed == "id" && !d.Entry.ID.Given() {
		return wrong("entry.id", "it is missing: entries are addressed by id")
	}
	if !d.Entry.Name.Given() && !d.Entry.Path.Given() {
		return wrong("entry.name", "it is missing, and there is no entry.path to take it from")
	}
	if len(d.List.steps()) == 0 {
		return wrong("list.request", "it is missing: a folder is listed by a request")
	}
	if len(d.Download.steps()) == 0 {
		return wrong("download.request", "it is missing: a file is read by a request")
	}
	reserved := []string{optionSignIn, optionClient, optionUser, optionArea, optionSecret, "name", "start", "read-only", "secret-file",
		"provider", "json", "service"}
	names := map[string]bool{}
	for i, option := range d.Options {
		field := fmt.Sprintf("options[%d].name", i)
		if !providerName.MatchString(option.Name) || slices.Contains(reserved, option.Name) || names[option.Name] {
			return wrong(field, "%q cannot be an option's name, or is one already", option.Name)
		}
		names[option.Name] = true
	}
	ways := map[string]bool{}
	for i := range d.SignIn {
		if err := checkWay(&d.SignIn[i], fmt.Sprintf("sign-in[%d]", i), wrong); err != nil {
			return err
		}
		if ways[d.SignIn[i].Way] {
			return wrong(fmt.Sprintf("sign-in[%d].way", i), "%s is there twice", d.SignIn[i].Way)
		}
		ways[d.SignIn[i].Way] = true
	}
	for i := range d.Uploads {
		if err := checkUpload(d, &d.Uploads[i], fmt.Sprintf("uploads[%d]", i), wrong); err != nil {
			return err
		}
	}
	for i, hash := range d.Hashes {
		if hash.kind().New() == nil {
			return wrong(fmt.Sprintf("hashes[%d].kind", i), "the hash %q cannot be computed here", hash.kind())
		}
	}
	if len(d.Documents) > 0 && d.Export == nil {
		return wrong("export", "it is missing: documents are read by exporting them")
	}
	for i, document := range d.Documents {
		if len(document.Formats) == 0 {
			return wrong(fmt.Sprintf("documents[%d].formats", i), "a document needs at least one format that it can be exported as")
		}
	}
	if d.Changes != nil && d.Changes.Begin != nil && !d.Changes.BeginCursor.Given() {
		return wrong("changes.begin-cursor", "it is missing: begin answers with a cursor")
	}
	if err := checkNames(d, d.Base, nil, "base", wrong); err != nil {
		return err
	}
	for i, further := range d.Origins {
		if err := checkNames(d, further, nil, fmt.Sprintf("origins[%d]", i), wrong); err != nil {
			return err
		}
	}
	for i := range d.SignIn {
		way := &d.SignIn[i]
		for name, template := range map[string]Template{"authorize": way.Authorize, "device": way.Device, "token": way.Token,
			"revoke": way.Revoke} {
			if err := checkNames(d, template, nil, fmt.Sprintf("sign-in[%d].%s", i, name), wrong); err != nil {
				return err
			}
		}
	}
	if err := d.Sharing.check(wrong); err != nil {
		return err
	}
	return checkSteps(d, reflect.ValueOf(d).Elem(), "", wrong)
}

// known are the names that addresses may contain: the variables of a request. Some exist
// only in some operations.
var known = []string{
	"option", "area", "member", "account", "limit", "key", "id", "name", "path", "names", "escaped_path", "parent", "page", "offset",
	"number", "size",
	"run", "revision",
	"kind", "facts", "if", "modified", "modified_ms", "hash", "kept", "parts", "part", "cursor", "range", "wait", "to", "scope", "root",
	"renames", "moves",
	"leftover", "format", "document", "batch", "state", "person", "level",
}

// ofPlaces are the names within parent and to.
var ofPlaces = []string{"id", "path", "escaped_path", "names", "name", "parent"}

// checkNames refuses a name in an address that nothing has: it would be left out, and the
// request go to another place.
func checkNames(d *Definition, template Template, with map[string]Expr, field string, wrong func(string, string, ...any) error) error {
	if template.Template == nil {
		return nil
	}
	unknown := func(name, given string, names []string) error {
		var members []member
		for _, one := range names {
			members = append(members, member{name: one})
		}
		return wrong(field, "{%s} is in the address %q, and there is no %s here%s", name, template.Raw(), given, nearest(given, members))
	}
	for _, name := range template.Names() {
		if _, ok := with[name]; ok {
			continue
		}
		first, rest, _ := strings.Cut(name, ".")
		inner, _, _ := strings.Cut(rest, ".")
		switch {
		case !slices.Contains(known, first):
			names := slices.Clone(known)
			for more := range with {
				names = append(names, more)
			}
			return unknown(name, first, names)
		case first == "option":
			options := []string{optionUser, optionClient, optionArea, optionSignIn}
			for _, option := range d.Options {
				options = append(options, option.Name)
			}
			if !slices.Contains(options, inner) {
				return unknown(name, inner, options)
			}
		case (first == "parent" || first == "to") && rest != "" && !slices.Contains(ofPlaces, inner):
			return unknown(name, inner, ofPlaces)
		}
	}
	return nil
}

// lineAt is the line of a field such as uploads[0].send, or of the last part of
// it that is there.
func lineAt(node *yaml.Node, field string) int {
	line := node.Line
	for _, step := range strings.FieldsFunc(field, func(r rune) bool { return r == '.' || r == '[' || r == ']' }) {
		var next *yaml.Node
		if index, err := strconv.Atoi(step); err == nil && node.Kind == yaml.SequenceNode && index < len(node.Content) {
			next = node.Content[index]
			line = next.Line
		} else if node.Kind == yaml.MappingNode {
			for i := 0; i+1 < len(node.Content); i += 2 {
				if node.Content[i].Value == step {
					next, line = node.Content[i+1], node.Content[i].Line
				}
			}
		}
		if next == nil {
			return line
		}
		node = next
	}
	return line
}

func checkWay(way *SignIn, field string, wrong func(string, string, ...any) error) error {
	need := func(name string, given bool) error {
		if given {
			return nil
		}
		return wrong(field+"."+name, "it is missing: a sign-in by %s needs it", way.Way)
	}
	var err error
	switch way.Way {
	case "code", "paste":
		err = cmp.Or(need("authorize", way.Authorize.given()), need("token", way.Token.given()))
	case "device":
		err = cmp.Or(need("device", way.Device.given()), need("token", way.Token.given()))
	case "client":
		err = need("token", way.Token.given())
	case "assertion":
		err = cmp.Or(need("token", way.Token.given()), need("assertion", way.Assertion != nil))
	case "key":
		err = need("header", way.Header != "" || way.Query != "")
	}
	return err
}

func checkUpload(d *Definition, u *Upload, field string, wrong func(string, string, ...any) error) error {
	switch {
	case !u.Tus && (u.Send == nil || len(u.Send.steps()) == 0):
		return wrong(field+".send", "it is missing: it sends the content")
	case u.Tus && u.Begin == nil:
		return wrong(field+".begin", "it is missing: tus begins with a request that creates the upload")
	case u.Tus && u.Pieces == nil:
		u.Pieces = &Pieces{}
	}
	if u.Pieces != nil && u.Pieces.Order == "any" && (u.Begin == nil || u.Finish == nil) {
		return wrong(field+".pieces.order", "parts in any order need begin and finish")
	}
	if u.Replaces == "remove" && (d.Remove == nil || d.Move == nil && !d.Names.Twins) {
		return wrong(field+".replaces", "to replace by removing, remove has to be described, and move where two entries cannot have one name")
	}
	if u.Send != nil && !sendsContent(u.Send) {
		return wrong(field+".send", "none of its requests sends the content; say content: true, in the request or in a part of it")
	}
	return nil
}

func sendsContent(o *Operation) bool {
	for _, step := range o.steps() {
		if step.Content || step.Multipart != nil && slices.ContainsFunc(step.Multipart.Parts, func(part Part) bool { return part.Content }) {
			return true
		}
	}
	return false
}

// checkSteps finds operations without a request, or with one and steps as well,
// and steps with more than one body.
func checkSteps(d *Definition, value reflect.Value, field string, wrong func(string, string, ...any) error) error {
	switch value.Kind() {
	case reflect.Pointer:
		if value.IsNil() {
			return nil
		}
		return checkSteps(d, value.Elem(), field, wrong)
	case reflect.Slice:
		for i := range value.Len() {
			if err := checkSteps(d, value.Index(i), fmt.Sprintf("%s[%d]", field, i), wrong); err != nil {
				return err
			}
		}
	case reflect.Struct:
		if scalars[value.Type()] || !value.CanAddr() {
			return nil
		}
		switch v := value.Addr().Interface().(type) {
		case *Operation:
			if err := checkOperation(v, field, wrong); err != nil {
				return err
			}
		case *Step:
			if err := checkStep(v, field, wrong); err != nil {
				return err
			}
			if v.Request != nil {
				if err := checkNames(d, v.Request.Address, v.With, under(field, "request"), wrong); err != nil {
					return err
				}
			}
		}
		for i := range value.NumField() {
			name, rest, _ := strings.Cut(value.Type().Field(i).Tag.Get("yaml"), ",")
			if name == "-" {
				continue
			}
			inner := field
			if rest != "inline" {
				inner = under(field, name)
			}
			if err := checkSteps(d, value.Field(i), inner, wrong); err != nil {
				return err
			}
		}
	}
	return nil
}

func checkOperation(o *Operation, field string, wrong func(string, string, ...any) error) error {
	if o.Request != nil && len(o.Steps) > 0 {
		return wrong(field, "it has a request and steps; write the request as one of the steps")
	}
	for i := range o.Steps {
		if o.Steps[i].Request == nil {
			return wrong(fmt.Sprintf("%s.steps[%d].request", field, i), "it is missing")
		}
	}
	if o.Request == nil && len(o.Steps) == 0 && !reflect.ValueOf(o.Step).IsZero() {
		return wrong(field+".request", "it is missing")
	}
	return nil
}

func checkStep(s *Step, field string, wrong func(string, string, ...any) error) error {
	bodies := 0
	for _, given := range []bool{s.Json.Given(), s.Form != nil, s.Content, s.Multipart != nil} {
		if given {
			bodies++
		}
	}
	if bodies > 1 {
		return wrong(field, "it has %d bodies; a request has one of json, form, content and multipart", bodies)
	}
	return nil
}
