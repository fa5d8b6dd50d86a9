package standin

import (
	"bytes"
	"fmt"
	"time"
)

// Document puts a document of its own into a folder, as a person would in a
// browser: kind is text, sheet or slides.
func (s *Sedge) Document(folder []string, kind, title, text string) {
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	s.drive.add(&node{Parent: s.folders(folder), Name: title, Kind: kind, Text: text})
}

// Put puts a file into a folder of one's own area, as a person would.
func (s *Sedge) Put(folder []string, title string, data []byte, modified time.Time) error {
	content, err := s.drive.keep(bytes.NewReader(data))
	if err != nil {
		return err
	}
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	s.drive.add(&node{Parent: s.folders(folder), Name: title, Kind: "file", Size: content.size, MD5: content.md5, Blob: content.name,
		Modified: modified})
	return nil
}

// PutFor puts a file into a folder of a member's area, as the member would.
func (s *Sedge) PutFor(mail string, folder []string, title string, data []byte) error {
	one, ok := s.org.of(mail)
	if !ok {
		return fmt.Errorf("%s is not a member", mail)
	}
	s.drive.root(one.root(), "My files")
	content, err := s.drive.keep(bytes.NewReader(data))
	if err != nil {
		return err
	}
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	s.drive.add(&node{Parent: s.below(one.root(), folder), Name: title, Kind: "file", Size: content.size, MD5: content.md5,
		Blob: content.name})
	return nil
}

// Fill puts so many empty files into a folder of one's own area, for tests of
// long listings.
func (s *Sedge) Fill(folder []string, count int, name func(int) string) {
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	parent := s.folders(folder)
	empty := "d41d8cd98f00b204e9800998ecf8427e"
	for i := range count {
		s.drive.add(&node{Parent: parent, Name: name(i), Kind: "file", MD5: empty})
	}
}

// folders is the id of a folder of one's own area, made where it is missing.
// s.drive.mu is held.
func (s *Sedge) folders(names []string) string { return s.below(sedgeAreas[0].root, names) }

// below is the id of a folder below another, made where it is missing. s.drive.mu is held.
func (s *Sedge) below(parent string, names []string) string {
	for _, name := range names {
		found := ""
		for _, id := range s.drive.children[parent] {
			if n := s.drive.Nodes[id]; n.Name == name && n.Kind == "folder" && !n.Trashed {
				found = id
			}
		}
		if found == "" {
			found = s.drive.add(&node{Parent: parent, Name: name, Kind: "folder"}).ID
		}
		parent = found
	}
	return parent
}
