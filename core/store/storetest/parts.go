package storetest

import (
	"bytes"
	"errors"
	"io"

	"deftheron/core/store"
)

func testParts(t T, s store.Store) {
	writer := s.Capabilities().Parts
	ok := writer != nil
	if !ok {
		t.Skip("the store takes no parts")
	}
	limits, ok := writer.PartLimits()
	if !ok {
		t.Skip("the store takes no parts")
	}
	mustWrite(t, s, at(s, "probe"), "so that what is probed at the first write has been")
	size := limits.Size(1)
	whole := bytes.Repeat([]byte("part of a whole "), int(size/16*2)+1)
	writing := store.Writing{Place: at(s, "parts.bin"), Size: int64(len(whole)), Run: "conformance"}
	upload, err := writer.BeginParts(t.Context(), writing)
	if err != nil {
		t.Fatalf("begin: %v", err)
	}
	abandoned, err := writer.BeginParts(t.Context(), store.Writing{Place: at(s, "abandoned.bin"), Size: 1, Run: "conformance"})
	if err != nil {
		t.Fatalf("begin: %v", err)
	}
	var parts []store.Part
	for number := range 3 {
		data := whole[int64(number)*size : min(int64(number+1)*size, int64(len(whole)))]
		stream := store.NewStream(io.NopCloser(bytes.NewReader(data)), s.Traits().VerificationKind, nil)
		part, err := writer.WritePart(t.Context(), writing, upload, number+1, int64(len(data)), stream)
		if err != nil {
			t.Fatalf("part %d: %v", number+1, err)
		}
		parts = append(parts, part)
	}
	if _, err := s.Stat(t.Context(), writing.Place); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("it can be seen before it is committed: %v", err)
	}
	cleaned, err := store.Clean(t.Context(), s, store.Cleaning{
		Run: "conformance", Keep: map[string]bool{upload: true},
		Uploads: []store.Ref{writing.Place, at(s, "abandoned.bin")},
	})
	if err != nil || len(cleaned) != 1 || cleaned[0].Upload != abandoned && cleaned[0].Place.Name != able(s, "abandoned.bin") {
		t.Errorf("cleaning removed %+v, %v; want the abandoned upload alone", cleaned, err)
	}
	written, err := writer.CommitParts(t.Context(), writing, upload, parts)
	if err != nil {
		t.Fatalf("commit: %v", err)
	}
	if written.Size != int64(len(whole)) {
		t.Errorf("committed with size %d, want %d", written.Size, len(whole))
	}
	if kind := s.Traits().VerificationKind; kind != "" && !written.Verification.IsZero() {
		sum := kind.New()
		sum.Write(whole)
		if expected := store.HashOf(kind, sum.Sum(nil)); written.Verification != expected {
			t.Errorf("verification %q, want %q", written.Verification, expected)
		}
	}
	if read(t, s, store.Reading{Place: writing.Place, Revision: written.Revision}) != string(whole) {
		t.Error("other bytes came back")
	}
}
