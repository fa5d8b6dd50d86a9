package preview

import (
	"cmp"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// programs has whether programs are installed, by name.
var programs sync.Map

// cache is a folder of previews, which is kept below a size. In the folder of an account a
// preview is a file "ID.picture"; the reason why there is none is the text of "ID.none".
type cache struct {
	dir  string
	most int64

	mu   sync.Mutex
	held int64 // bytes
}

const (
	pictureSuffix = ".picture"
	failureSuffix = ".none"
	// block is what a file takes on a disk at least.
	block = 4096
	// touchEvery is how often the time of a file is set when it is used: the one that was not
	// used for the longest time goes first.
	touchEvery = time.Hour
)

// openCache opens a cache. Files that a crash left behind are removed.
func openCache(dir string, most int64) (*cache, error) {
	c := &cache{dir: dir, most: most}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	files, err := c.files()
	for _, file := range files {
		c.held += file.takes
	}
	left, globErr := filepath.Glob(filepath.Join(dir, "read-*"))
	for _, name := range left {
		err = errors.Join(err, os.Remove(name))
	}
	return c, errors.Join(err, globErr)
}

// get returns the file of a preview, or why there is none.
func (c *cache) get(account, id string) (at, why string, ok bool) {
	at = filepath.Join(c.dir, account, id+pictureSuffix)
	if info, err := os.Stat(at); err == nil {
		if now := time.Now(); now.Sub(info.ModTime()) > touchEvery {
			_ = os.Chtimes(at, now, now) // used all the same
		}
		return at, "", true
	}
	text, err := os.ReadFile(filepath.Join(c.dir, account, id+failureSuffix))
	return "", string(text), err == nil && len(text) > 0
}

func (c *cache) put(account, id string, picture []byte) (string, error) {
	return c.write(account, id+pictureSuffix, picture)
}

func (c *cache) putFailure(account, id, why string) error {
	_, err := c.write(account, id+failureSuffix, []byte(why))
	return err
}

func (c *cache) write(account, name string, data []byte) (string, error) {
	folder := filepath.Join(c.dir, account)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	file, err := os.CreateTemp(folder, "write-*")
	if err != nil {
		return "", err
	}
	at := filepath.Join(folder, name)
	_, err = file.Write(data)
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Rename(file.Name(), at)
	}
	if err != nil {
		return "", errors.Join(err, os.Remove(file.Name()))
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.held += takes(int64(len(data))); c.held > c.most {
		return at, c.shrink()
	}
	return at, nil
}

// shrink removes the files that were not used for the longest time, until a tenth is free. c.mu
// is held.
func (c *cache) shrink() error {
	files, err := c.files()
	if err != nil {
		return err
	}
	slices.SortFunc(files, func(a, b cached) int { return cmp.Compare(a.used.UnixNano(), b.used.UnixNano()) })
	c.held = 0
	for _, file := range files {
		c.held += file.takes
	}
	for _, file := range files[:max(0, len(files)-1)] { // the last one is in use
		if c.held <= c.most-c.most/10 {
			break
		}
		if err := os.Remove(file.at); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		c.held -= file.takes
	}
	return nil
}

// forget removes what is kept of an account.
func (c *cache) forget(account string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if err := os.RemoveAll(filepath.Join(c.dir, account)); err != nil {
		return err
	}
	files, err := c.files()
	c.held = 0
	for _, file := range files {
		c.held += file.takes
	}
	return err
}

// cached is a file of the cache.
type cached struct {
	at    string
	takes int64
	used  time.Time
}

func takes(size int64) int64 { return (size + block - 1) / block * block }

func (c *cache) files() (files []cached, err error) {
	err = filepath.WalkDir(c.dir, func(at string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(at, pictureSuffix) && !strings.HasSuffix(at, failureSuffix) {
			return err
		}
		info, err := entry.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil {
			files = append(files, cached{at, takes(info.Size()), info.ModTime()})
		}
		return err
	})
	return files, err
}
