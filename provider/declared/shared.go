package declared

import (
	"fmt"
	"slices"

	"go.yaml.in/yaml/v3"
)

// mostShared is how many values the shared parts of a definition may come to where they
// are put in, so that a small text cannot mean a large definition.
const mostShared = 20_000

// joined are the fields of a request that are put together with a shared part's by their
// names; of all others, the request's own counts alone.
var joined = []string{"with", "query", "headers", "form", "keep"}

// sharing puts the shared parts of a definition into the requests that name them.
type sharing struct {
	parts map[string]*yaml.Node
	used  map[string]bool
	added int
}

// putShared puts the parts under "common" of a definition into each request that says
// "common: [NAME]". What the request says itself goes before the part, and earlier parts
// before later ones.
func putShared(root *yaml.Node) error {
	s := &sharing{parts: map[string]*yaml.Node{}, used: map[string]bool{}}
	shared := valueOf(root, "common")
	if shared != nil {
		if shared.Kind != yaml.MappingNode {
			return &Problem{Line: shared.Line, Field: "common", Reason: "names with parts of requests are due here"}
		}
		for i := 0; i+1 < len(shared.Content); i += 2 {
			name, part := shared.Content[i], shared.Content[i+1]
			if part.Kind != yaml.MappingNode || valueOf(part, "common") != nil {
				return &Problem{Line: part.Line, Field: "common." + name.Value,
					Reason: "fields of a request are due here, which name no shared part themselves"}
			}
			s.parts[name.Value] = part
		}
	}
	for i := 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i+1] != shared {
			if err := s.walk(root.Content[i+1]); err != nil {
				return err
			}
		}
	}
	if shared == nil {
		return nil
	}
	for i := 0; i+1 < len(shared.Content); i += 2 {
		if name := shared.Content[i]; !s.used[name.Value] {
			return &Problem{Line: name.Line, Field: "common." + name.Value, Reason: "no request names this part; name it with common: [" +
				name.Value + "], or leave it out"}
		}
	}
	return nil
}

// valueOf is the value of a field; nil where there is none.
func valueOf(node *yaml.Node, field string) *yaml.Node {
	for i := 0; node.Kind == yaml.MappingNode && i+1 < len(node.Content); i += 2 {
		if node.Content[i].Value == field {
			return node.Content[i+1]
		}
	}
	return nil
}

func (s *sharing) walk(node *yaml.Node) error {
	if names := valueOf(node, "common"); names != nil && names.Kind == yaml.SequenceNode {
		for _, name := range names.Content {
			part := s.parts[name.Value]
			if part == nil {
				members := make([]member, 0, len(s.parts))
				for known := range s.parts {
					members = append(members, member{name: known})
				}
				return &Problem{Line: name.Line, Field: "common",
					Reason: fmt.Sprintf("there is no shared part %q%s", name.Value, nearest(name.Value, members))}
			}
			s.used[name.Value] = true
			if err := s.put(node, part); err != nil {
				return err
			}
		}
	}
	for _, child := range node.Content {
		if err := s.walk(child); err != nil {
			return err
		}
	}
	return nil
}

// put adds the fields of a part that a node has not.
func (s *sharing) put(node, part *yaml.Node) error {
	for i := 0; i+1 < len(part.Content); i += 2 {
		field, value := part.Content[i], part.Content[i+1]
		own := valueOf(node, field.Value)
		switch {
		case own == nil:
			if s.added += size(value); s.added > mostShared {
				return &Problem{Line: node.Line, Field: "common",
					Reason: fmt.Sprintf("the shared parts come to more than %d values; share less", mostShared)}
			}
			node.Content = append(node.Content, field, copied(value))
		case slices.Contains(joined, field.Value) && own.Kind == yaml.MappingNode && value.Kind == yaml.MappingNode:
			if err := s.put(own, value); err != nil {
				return err
			}
		}
	}
	return nil
}

func size(node *yaml.Node) int {
	n := 1
	for _, child := range node.Content {
		n += size(child)
	}
	return n
}

func copied(node *yaml.Node) *yaml.Node {
	other := *node
	other.Content = make([]*yaml.Node, len(node.Content))
	for i, child := range node.Content {
		other.Content[i] = copied(child)
	}
	return &other
}
