package declared

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"deftheron/core/listing"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// The parts of a trial that compare the claims of a definition with the behaviour of the
// service. They bypass our own checks, which could hide a false claim.

// staleRevision is one that no file has.
const staleRevision = "0000-heron-try-no-such-revision"

// claimsPart reads a file that was just written: what the definition says of entries
// has to come to something.
func claimsPart(t storetest.T, s store.Store) {
	a := s.(*account)
	place := store.At("claims.txt")
	put(t, s, place, "what is said of me")
	one, err := a.look(t.Context(), place)
	if err != nil {
		t.Fatal(err)
	}
	a.claimsOf(t, place, one)
	readingClaim(t, a, place, one)
	unicodeClaim(t, a)
	sharingClaim(t, a, place, one)
}

// nobodyThere is a person whom no service knows (RFC 2606).
const nobodyThere = "heron-try@nobody.invalid"

// sharingClaim reads the share list of a file, and looks for people. It shares nothing.
func sharingClaim(t storetest.T, a *account, place store.Ref, one found) {
	t.Helper()
	if a.definition.Sharing == nil {
		return
	}
	lists := shareLists{a}
	place.ID, place.Kind = one.ID, store.KindFile
	list, err := lists.ShareList(t.Context(), place)
	if err != nil {
		t.Fatal(err)
	}
	if one.HasShares && len(list.People)+list.Links == 0 && strings.EqualFold(list.Owner, a.owner) {
		t.Errorf("entry.shared holds for the file %s, and its share list names nobody but the account's owner", place)
	}
	if a.definition.Sharing.Person == nil {
		return
	}
	if known, err := lists.KnowsPerson(t.Context(), nobodyThere); err != nil || known {
		t.Errorf("sharing.person says %v of %s, whom nobody knows (%v); see how the service answers of people whom it does not know", known,
			nobodyThere, err)
	}
	if known, err := lists.KnowsPerson(t.Context(), list.Owner); list.Owner != "" && (err != nil || !known) {
		t.Errorf("sharing.person says %v of %s, who owns a file (%v)", known, list.Owner, err)
	}
}

// free returns the account without the definition's rules for names.
func (a *account) free() *account {
	definition, said := *a.definition, a.definition.Names
	definition.Names = Names{Slashes: said.Slashes, Twins: said.Twins, Beside: said.Beside}
	free := *a
	free.definition = &definition
	free.names = free.nameRules()
	return &free
}

// takes is nil where a file of a name can be written into a new folder, and is listed by
// that name.
func (a *account) takes(t storetest.T, folder, name string) error {
	t.Helper()
	if _, err := a.MakeFolder(t.Context(), store.At(folder)); err != nil {
		t.Fatal(err)
	}
	place := store.At(folder, name)
	if _, err := a.Write(t.Context(), store.Writing{Place: place, Size: 1, Run: "trial", Content: storetest.Text("x")}); err != nil {
		return err
	}
	for entry, err := range a.List(t.Context(), place.Folder) {
		if err == nil && entry.Name != name {
			err = fmt.Errorf("it is listed as %q", entry.Name)
		}
		return err
	}
	return errors.New("it is not listed")
}

// unicodeClaim writes a name in the form that the service is said not to keep.
func unicodeClaim(t storetest.T, a *account) {
	t.Helper()
	said, other := a.definition.Names.Unicode, "e\u0301.txt"
	switch said {
	case "nfc":
	case "nfd":
		other = norm.NFC.String(other)
	default:
		return // a form that is not kept shows by the names that come back
	}
	if a.free().takes(t, "form", other) == nil {
		t.Errorf("names.unicode: %s is claimed, and the service keeps a name of the other form; "+
			"leave it out, or files with such names are refused for nothing", said)
	}
}

// claimsOf fails for each field of an entry that is described and comes to nothing.
func (a *account) claimsOf(t storetest.T, place store.Ref, one found) {
	t.Helper()
	d := &a.definition.Entry
	for _, claim := range []struct {
		field   string
		given   bool
		nothing bool
	}{
		{"entry.size", d.Size.Given(), one.Size < 0},
		{"entry.modified", d.Modified.Given(), one.Modified.IsZero()},
		{"entry.revision", d.Revision.Given(), one.Revision == ""},
		{"entry.id", d.ID.Given(), one.ID == ""},
		{"entry.path", d.Path.Given(), one.path == ""},
		{"entry.parent", d.Parent.Given(), one.parent == ""},
	} {
		if claim.given && claim.nothing {
			t.Errorf("%s comes to nothing for the file %s: see what the service calls it, or leave it out", claim.field, place)
		}
	}
	for i := range a.definition.Hashes {
		if hash := &a.definition.Hashes[i]; one.Hashes.Get(hash.kind()).IsZero() {
			t.Errorf("hashes[%d].value comes to no %s for the file %s: see what the service calls it, or leave it out", i, hash.kind(), place)
		}
	}
}

// readingClaim reads with a revision that is gone, where the service is said to refuse it.
func readingClaim(t storetest.T, a *account, place store.Ref, one found) {
	t.Helper()
	if !a.definition.Download.Conditional {
		return
	}
	one.Revision = staleRevision
	in, err := a.subject(t.Context(), place, one)
	if err != nil {
		t.Fatal(err)
	}
	body, err := a.download(t.Context(), in, store.Reading{Place: place, Revision: staleRevision}, one)
	if err == nil {
		_, err = io.Copy(io.Discard, body)
		body.Close()
	}
	switch store.KindOf(err) {
	case store.ErrChanged, store.ErrNotFound: // the revision is not there
	case nil:
		t.Errorf("download.conditional is claimed and not kept: with a revision that is gone, the service still gave the bytes; " +
			"leave it out, so that it is looked first")
	default:
		t.Errorf("a download with a revision that is gone was refused, and not told as changed: %v; name that answer under failures", err)
	}
}

// removingClaim removes with a revision that is gone.
func removingClaim(t storetest.T, s store.Store) {
	a := s.(*account)
	if !a.definition.Remove.Conditional {
		t.Skip("remove.conditional is not claimed")
	}
	place := store.At("stays.txt")
	put(t, s, place, "first")
	one, err := a.look(t.Context(), place)
	if err != nil {
		t.Fatal(err)
	}
	one.Revision = staleRevision
	err = a.removeFound(t.Context(), place, one)
	if _, gone := a.look(t.Context(), place); gone != nil {
		t.Errorf("remove.conditional is claimed and not kept: with a revision that is gone, the file was removed (%v); "+
			"leave it out, so that it is looked first", err)
		return
	}
	if kind := store.KindOf(err); kind != store.ErrChanged {
		t.Errorf("a removal with a revision that is gone was refused, and not told as changed: %v; name that answer under failures", err)
	}
}

// namesPart writes names that services often refuse or change, past what the definition
// says of names, and proposes what it should say. It explains why names do not survive.
func namesPart(t storetest.T, s store.Store) {
	a := s.(*account)
	free, tried := a.free(), 0
	takes := func(name string) error {
		tried++
		return free.takes(t, fmt.Sprint("names ", tried), name)
	}
	if err := takes("plain.txt"); err != nil {
		t.Fatalf("it is not the names: a plain one fails too: %v", err)
	}
	var refused []string
	var reason error
	for _, name := range storetest.Names {
		if a.names.Check("", name) != nil {
			continue
		}
		if err := takes(name); err != nil {
			refused, reason = append(refused, name), cmp.Or(reason, err)
		}
		if err := t.Context().Err(); err != nil {
			t.Fatal(err)
		}
	}
	if len(refused) > 0 {
		t.Errorf("%d of %d names that names allows are refused or changed by the service: %q; the first: %v", len(refused), len(storetest.Names),
			refused, reason)
		t.Errorf("proposed, beside what names says already:\n%s", proposedNames(refused, takes))
	}
}

// proposedNames is a names block that keeps away from what takes refuses. It tries each
// character of the refused names by itself.
func proposedNames(refused []string, takes func(string) error) string {
	characters, verdicts := "", map[rune]bool{}
	bad := func(c rune) bool {
		verdict, known := verdicts[c]
		if !known {
			verdict = takes("a"+string(c)+"b") != nil
			if verdicts[c] = verdict; verdict {
				characters += string(c)
			}
		}
		return verdict
	}
	var patterns []string
	add := func(pattern string) {
		if !slices.Contains(patterns, pattern) {
			patterns = append(patterns, pattern)
		}
	}
	unicode := ""
	for _, name := range refused {
		first, _ := utf8.DecodeRuneInString(name)
		last, _ := utf8.DecodeLastRuneInString(name)
		explained := false
		for _, c := range name {
			everywhere := strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789. ", c)
			joins := !norm.NFC.IsNormalString("e" + string(c)) // the letter before it
			if !everywhere && !joins {
				explained = bad(c) || explained
			}
		}
		switch {
		case explained:
		case !norm.NFC.IsNormalString(name) && takes(norm.NFC.String(name)) == nil:
			unicode = "nfc"
		case norm.NFC.IsNormalString(name) && !norm.NFD.IsNormalString(name) && takes(norm.NFD.String(name)) == nil:
			unicode = "nfd"
		case strings.ContainsRune(". ", last) && takes("a"+string(last)) != nil:
			add("[" + string(last) + "]$")
		case strings.ContainsRune(". ", first) && takes(string(first)+"a") != nil:
			add("^[" + string(first) + "]")
		default:
			add("(?i)^" + regexp.QuoteMeta(name) + "$")
		}
	}
	if characters != "" {
		class := ""
		for _, c := range characters {
			switch {
			case c < ' ':
				class += fmt.Sprintf(`\x%02x`, c)
			case strings.ContainsRune(`\]^-`, c):
				class += `\` + string(c)
			default:
				class += string(c)
			}
		}
		patterns = append([]string{"[" + class + "]"}, patterns...)
	}
	var b strings.Builder
	b.WriteString("names:\n")
	if len(patterns) > 0 {
		b.WriteString("  refused:\n")
	}
	for _, pattern := range patterns {
		fmt.Fprintf(&b, "    - '%s'\n", strings.ReplaceAll(pattern, "'", "''"))
	}
	if unicode != "" {
		fmt.Fprintf(&b, "  unicode: %s\n", unicode)
	}
	return strings.TrimRight(b.String(), "\n")
}

// readingPart reads from an account that cannot be written to: a few files, whole and from
// the middle, and their metadata.
func readingPart(t storetest.T, s store.Store) {
	a := s.(*account)
	const most, looks, largest = 3, 2000, 16 << 20
	read, looked := 0, 0
	for listed, err := range listing.Flat(t.Context(), s, store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		if looked++; looked > looks || read >= most {
			break
		}
		if listed.Kind != store.KindFile || listed.Size < 2 || listed.Size > largest {
			continue
		}
		read++
		place := listed.Ref(store.Folder{Path: listed.Below})
		one, err := a.look(t.Context(), place)
		if err != nil {
			t.Errorf("looking at %s: %v", place, err)
			continue
		}
		if one.Size != listed.Size || !store.SameRevision(one.Revision, listed.Revision) {
			t.Errorf("%s is listed with %d bytes and the revision %q, and a look at it tells %d and %q", place, listed.Size, listed.Revision,
				one.Size, one.Revision)
		}
		a.claimsOf(t, place, one)
		a.readWhole(t, place, one)
		readingClaim(t, a, place, one)
	}
	if read == 0 {
		t.Skip("the account holds no file of 2 bytes to 16 MiB to read; put one there and try again")
	}
	absent := store.At("heron-try-is-not-there")
	if _, err := s.Stat(t.Context(), absent); store.KindOf(err) != store.ErrNotFound {
		t.Errorf("a look at what is not there: %v; it has to be told as not found", err)
	}
}

// readWhole reads a file from its start and from its middle, and holds its hashes
// against its bytes.
func (a *account) readWhole(t storetest.T, place store.Ref, one found) {
	t.Helper()
	bytesFrom := func(offset int64) string {
		body, err := a.Open(t.Context(), store.Reading{Place: place, Revision: one.Revision, Offset: offset})
		if err != nil {
			t.Errorf("reading %s from byte %d: %v", place, offset, err)
			return ""
		}
		defer body.Close()
		data, err := io.ReadAll(body)
		if err != nil {
			t.Errorf("reading %s from byte %d: %v", place, offset, err)
		}
		return string(data)
	}
	whole := bytesFrom(0)
	if int64(len(whole)) != one.Size {
		t.Errorf("%s has %d bytes by entry.size, and %d came", place, one.Size, len(whole))
		return
	}
	if half := bytesFrom(one.Size / 2); half != whole[one.Size/2:] {
		t.Errorf("%s from its middle gave other bytes than the whole; see download.ranges", place)
	}
	for _, hash := range one.Hashes {
		sum := hash.Kind.New()
		sum.Write([]byte(whole))
		if store.HashOf(hash.Kind, sum.Sum(nil)) != hash {
			t.Errorf("the %s of %s is reported as %s, and its bytes have another", hash.Kind, place, hash.Hex)
		}
	}
}

// spaceClaims fails for each amount that is described and comes to nothing, where it
// has to come to something: total is null where there is no limit.
func (a *account) spaceClaims(t storetest.T, space store.Space) {
	d := a.definition.Space
	if d.Used.Given() && space.Used < 0 {
		t.Error("space.used comes to nothing: see what the service calls it, or leave it out")
	}
	if d.Free.Given() && space.Free < 0 {
		t.Error("space.free comes to nothing: see what the service calls it, or leave it out")
	}
}
