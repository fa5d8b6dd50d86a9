package annotations_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/core/gate"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/tree"
	"deftheron/core/view"
	"deftheron/service/annotations"
	"deftheron/service/records"
)

type userKey struct{}

func as(ctx context.Context, user string) context.Context {
	return context.WithValue(ctx, userKey{}, user)
}

// desk is a service with one account.
type desk struct {
	t      *testing.T
	db     *records.DB
	all    *annotations.Annotations
	behind *storetest.Account // the account as others see it
	store  store.Store
	tree   *tree.Tree
	now    time.Time
}

// Names and Open implement tree.Accounts.
func (d *desk) Names(context.Context) ([]string, error) { return []string{"desk"}, nil }

func (d *desk) Open(_ context.Context, name string) (tree.Account, error) {
	return tree.Account{Name: name, Store: d.store, Gate: gate.New(name, 4, 4)}, nil
}

func newDesk(t *testing.T) *desk {
	db, err := records.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	memory := storetest.NewMemory()
	memory.Inodes = true
	d := &desk{t: t, db: db, behind: &storetest.Account{Memory: memory, Moves: true, Copies: true},
		now: time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)}
	if err := db.AddAccount(t.Context(), &records.Account{ID: "id-of-desk", Name: "desk", Provider: "folder",
		Options: map[string]string{}, CreatedAt: d.now}); err != nil {
		t.Fatal(err)
	}
	d.tree = &tree.Tree{Accounts: d}
	d.all = annotations.New(db, d.tree, slog.New(slog.DiscardHandler))
	d.all.Now = func() time.Time { return d.now }
	d.all.AccountID = func(context.Context, string) (string, error) { return "id-of-desk", nil }
	d.all.UserOf = func(ctx context.Context) string { user, _ := ctx.Value(userKey{}).(string); return user }
	d.store = view.Watched(d.behind, d.all.Watcher("id-of-desk"))
	return d
}

func (d *desk) must(err error) {
	d.t.Helper()
	if err != nil {
		d.t.Fatal(err)
	}
}

func (d *desk) write(ctx context.Context, key string) error {
	_, err := d.store.Write(ctx, store.Writing{Place: placeOf(key), Size: int64(len(key)), If: store.Any, Content: storetest.Text(key)})
	return err
}

// placeOf is the place of a path; one that ends in a slash is a folder's.
func placeOf(path string) store.Ref {
	if folder, ok := strings.CutSuffix(path, "/"); ok {
		return store.At(strings.Split(folder, "/")...).As(store.KindFolder)
	}
	return store.At(strings.Split(path, "/")...).As(store.KindFile)
}

func address(path string) store.Address { return store.MakeAddress("desk", placeOf(path)) }

func (d *desk) of(path string) annotations.Entry {
	d.t.Helper()
	one, err := d.all.Of(d.t.Context(), address(path))
	d.must(err)
	d.must(d.all.Fill(d.t.Context(), &one))
	return one
}

func (d *desk) tag(path string, tags ...string) {
	d.t.Helper()
	_, err := d.all.Tag(d.t.Context(), d.of(path), tags, nil, "ann")
	d.must(err)
}

// listed returns the tags of all files and folders, as listings show them.
func (d *desk) listed() map[string]string {
	d.t.Helper()
	found := map[string]string{}
	var list func(folder store.Address, path string)
	list = func(folder store.Address, path string) {
		var nodes []tree.Node
		for node, err := range d.tree.List(d.t.Context(), folder) {
			d.must(err)
			nodes = append(nodes, node)
		}
		noted, err := d.all.In(d.t.Context(), folder, nodes)
		d.must(err)
		for i, node := range nodes {
			below := path + node.Name
			if node.Kind == store.KindFolder {
				below += "/"
				list(node.Address, below)
			}
			if noted[i] != nil {
				found[below] = strings.Join(noted[i].Tags, ",")
			}
		}
	}
	list(store.Address{Account: "desk"}, "")
	return found
}

// TestFollow makes random changes and moves, through the service and behind its back, and
// has every tag be where its file is.
func TestFollow(t *testing.T) {
	for seed := range uint64(15) {
		d := newDesk(t)
		random := rand.New(rand.NewPCG(seed, 1))
		want := map[string]string{}
		files := map[string]bool{}
		var log []string
		for _, folder := range []string{"a/", "b/", "a/c/"} {
			_, err := d.store.MakeFolder(t.Context(), placeOf(folder))
			d.must(err)
		}
		for step := range 40 {
			all := slices.Sorted(maps.Keys(files))
			pick := func() string { return all[random.IntN(len(all))] }
			fresh := []string{"", "a/", "b/", "a/c/"}[random.IntN(4)] + fmt.Sprint("file", step)
			what := random.IntN(6)
			if len(all) == 0 {
				what = 0
			}
			switch what {
			case 0:
				d.must(d.write(t.Context(), fresh))
				files[fresh] = true
				log = append(log, "write "+fresh)
			case 1:
				file, tag := pick(), fmt.Sprint("tag", step)
				d.tag(file, tag)
				want[file] = strings.Trim(want[file]+","+tag, ",")
				log = append(log, "tag "+file+" "+tag)
			case 2, 3:
				file := pick()
				s := d.store
				if what == 3 {
					s = d.behind
				}
				_, err := store.Move(t.Context(), s, placeOf(file), "", placeOf(fresh))
				d.must(err)
				delete(files, file)
				files[fresh] = true
				if tags, ok := want[file]; ok {
					delete(want, file)
					want[fresh] = tags
				}
				log = append(log, fmt.Sprintf("move %s to %s, behind: %v", file, fresh, what == 3))
			case 4:
				file := pick()
				d.must(d.write(t.Context(), file)) // another file in its place
				log = append(log, "replace "+file)
			case 5:
				file := pick()
				_, err := d.store.Remove(t.Context(), placeOf(file), "")
				d.must(err)
				delete(files, file)
				delete(want, file)
				log = append(log, "remove "+file)
			}
			if got := d.listed(); !sameTags(got, want) {
				t.Fatalf("seed %d, after\n%s\ntags are at %v, want %v", seed, strings.Join(log, "\n"), got, want)
			}
		}
	}
}

// sameTags compares tags, in whatever order each has them.
func sameTags(got, want map[string]string) bool {
	return maps.EqualFunc(got, want, func(a, b string) bool {
		x, y := strings.Split(a, ","), strings.Split(b, ",")
		slices.Sort(x)
		slices.Sort(y)
		return slices.Equal(x, y)
	})
}

// TestFolders moves folders with annotated files in them, one of them to where another was.
func TestFolders(t *testing.T) {
	d := newDesk(t)
	ctx := t.Context()
	for _, folder := range []string{"one/", "one/in side/", "one/x\x00y/"} {
		_, err := d.store.MakeFolder(ctx, placeOf(strings.ReplaceAll(folder, "\x00", "_")))
		d.must(err)
	}
	d.must(d.write(ctx, "one/in side/file"))
	d.must(d.write(ctx, "onefile"))
	for _, path := range []string{"one/", "one/in side/", "one/in side/file", "onefile"} {
		d.tag(path, "t "+strings.NewReplacer("/", "-").Replace(path))
	}
	_, err := store.Move(ctx, d.store, placeOf("one/"), "", placeOf("two/"))
	d.must(err)
	want := map[string]string{"two/": "t one-", "two/in side/": "t one-in side-", "two/in side/file": "t one-in side-file",
		"onefile": "t onefile"}
	if got := d.listed(); !maps.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	found, next, err := d.all.Below(ctx, address("two/"), "", annotations.Cursor{}, 2)
	if err != nil || len(found) != 2 || next == nil || found[0].Address.String() != "/desk/two" {
		t.Fatalf("%+v, %v, %v", found, next, err)
	}
	rest, next, err := d.all.Below(ctx, address("two/"), "", *next, 10)
	if err != nil || len(rest) != 1 || next != nil || rest[0].Address.String() != "/desk/two/in side/file" {
		t.Errorf("%+v, %v, %v", rest, next, err)
	}
	byTag, _, err := d.all.Below(ctx, store.Address{}, "T ONEFILE", annotations.Cursor{}, 10)
	if err != nil || len(byTag) != 1 || byTag[0].Address.String() != "/desk/onefile" {
		t.Errorf("%+v, %v", byTag, err)
	}
	// What is in history is not followed there.
	_, err = store.Move(ctx, d.store, placeOf("onefile"), "", placeOf(".heron/history/x"))
	if err == nil {
		t.Error("a folder that is missing")
	}
}

// TestForgotten removes what is noted about entries that are missing for long, and of
// accounts that are unlinked, and keeps it until then.
func TestForgotten(t *testing.T) {
	d := newDesk(t)
	ctx := t.Context()
	d.must(d.write(ctx, "gone"))
	d.must(d.write(ctx, "here"))
	d.tag("gone", "old")
	d.tag("here", "new")
	_, err := d.store.Remove(ctx, placeOf("gone"), "")
	d.must(err)
	d.must(d.db.ForgetMissing(ctx, d.now, d.now.Add(-90*24*time.Hour)))
	found, _, err := d.all.Below(ctx, store.Address{}, "", annotations.Cursor{}, 10)
	if err != nil || len(found) != 2 || found[0].MissingAt == nil || found[1].MissingAt != nil {
		t.Fatalf("%+v, %v", found, err)
	}
	d.must(d.write(ctx, "gone")) // as a restore brings it back
	if tags := d.of("gone").Tags; !slices.Equal(tags, []string{"old"}) {
		t.Errorf("what came back has %q", tags)
	}
	_, err = d.store.Remove(ctx, placeOf("gone"), "")
	d.must(err)
	d.must(d.db.ForgetMissing(ctx, d.now, d.now.Add(time.Hour)))
	if found, _, _ = d.all.Below(ctx, store.Address{}, "", annotations.Cursor{}, 10); len(found) != 1 {
		t.Errorf("%d entries are left", len(found))
	}
	d.must(d.db.RemoveAccount(ctx, records.Account{ID: "id-of-desk", Name: "desk"}))
	d.must(d.db.ForgetMissing(ctx, d.now, d.now.Add(-time.Hour)))
	d.must(d.db.ForgetMissing(ctx, d.now.Add(2*time.Hour), d.now.Add(time.Hour)))
	if has, err := d.db.HasAnnotated(ctx, "id-of-desk"); has || err != nil {
		t.Errorf("an unlinked account still has annotations: %v", err)
	}
}

// TestLocks has a lock keep others and runs out of a file and a folder until it ends.
func TestLocks(t *testing.T) {
	d := newDesk(t)
	ann, ben, run := as(t.Context(), "ann"), as(t.Context(), "ben"), t.Context()
	_, err := d.store.MakeFolder(run, placeOf("in/"))
	d.must(err)
	for _, file := range []string{"plan", "in/file", "free"} {
		d.must(d.write(run, file))
	}
	ended := ""
	d.all.Unlocked = func(entry store.Address) { ended = entry.String() }
	lock := func(path, user string, hours int) error {
		_, err := d.all.Lock(run, d.of(path), records.Lock{User: user, By: user, Until: d.now.Add(time.Duration(hours) * time.Hour)})
		return err
	}
	d.must(lock("plan", "ann", 1))
	d.must(lock("in/", "ann", 2))
	for _, c := range []struct{ path, user string }{{"plan", "ben"}, {"in/file", "ben"}} {
		if err := lock(c.path, c.user, 1); !errors.Is(err, store.ErrLocked) {
			t.Errorf("%s locks %s: %v", c.user, c.path, err)
		}
	}
	for hours, wrong := range map[int]string{0: "at once", -1: "at once", 24 * 91: "90 days"} {
		if err := lock("free", "ann", hours); err == nil || !strings.Contains(err.Error(), wrong) {
			t.Errorf("a lock of %d hours: %v", hours, err)
		}
	}
	changes := map[string]func(context.Context) error{
		"write":    func(ctx context.Context) error { return d.write(ctx, "plan") },
		"write in": func(ctx context.Context) error { return d.write(ctx, "in/new") },
		"move": func(ctx context.Context) error {
			_, err := store.Move(ctx, d.store, placeOf("in/file"), "", placeOf("in/file2"))
			if err == nil {
				_, err = store.Move(ctx, d.store, placeOf("in/file2"), "", placeOf("in/file"))
			}
			return err
		},
		"copy over": func(ctx context.Context) error {
			_, err := store.Copy(ctx, d.store, placeOf("free"), "", placeOf(fmt.Sprint("in/copy", random())), "run")
			return err
		},
		"make folder in": func(ctx context.Context) error {
			_, err := d.store.MakeFolder(ctx, placeOf(fmt.Sprint("in/new", random(), "/")))
			return err
		},
	}
	for name, change := range changes {
		if err := change(ann); err != nil {
			t.Errorf("%s by who holds it: %v", name, err)
		}
		for who, ctx := range map[string]context.Context{"another": ben, "a run": run} {
			if err := change(ctx); !errors.Is(err, store.ErrLocked) || !strings.Contains(fmt.Sprint(err), "ann") {
				t.Errorf("%s by %s: %v", name, who, err)
			}
		}
	}
	if _, err := d.store.Remove(ben, placeOf("plan"), ""); !errors.Is(err, store.ErrLocked) {
		t.Errorf("removing: %v", err)
	}
	if _, err := d.store.MakeFolder(ben, placeOf("in/")); err != nil {
		t.Errorf("a locked folder that is there: %v", err)
	}
	// The lock follows the file, and ends by itself.
	_, err = store.Move(ann, d.store, placeOf("plan"), "", placeOf("plan 2"))
	d.must(err)
	if err := d.write(ben, "plan 2"); !errors.Is(err, store.ErrLocked) {
		t.Errorf("after a move: %v", err)
	}
	d.now = d.now.Add(time.Hour)
	d.must(d.write(ben, "plan 2"))
	if one := d.of("plan 2"); one.Annotated.Lock != nil {
		t.Errorf("it is still shown: %+v", one.Annotated.Lock)
	}
	// It ends with the file, and what comes to its place later is not locked.
	d.must(lock("plan 2", "ann", 1))
	_, err = d.store.Remove(ann, placeOf("plan 2"), "")
	d.must(err)
	d.must(d.write(ben, "plan 2"))
	d.must(d.all.Unlock(ann, d.of("in/")))
	d.must(d.write(ben, "in/file"))
	if ended != "/desk/in" {
		t.Errorf("%q was unlocked", ended)
	}
}

func random() uint64 { return rand.Uint64() }
