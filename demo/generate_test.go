package demo_test

import (
	"context"
	"image"
	_ "image/jpeg"
	_ "image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"deftheron/demo"
)

func TestGenerate(t *testing.T) {
	one, two := t.TempDir(), t.TempDir()
	made, err := demo.Generate(one, demo.Seed)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := demo.Generate(two, demo.Seed); err != nil {
		t.Fatal(err)
	}
	if made.Files < 550 || made.Files > 650 || made.Bytes < 70<<20 || made.Bytes > 90<<20 {
		t.Errorf("%d files and %d MiB; want some 600 and 80", made.Files, made.Bytes>>20)
	}
	var files, large int64
	err = filepath.WalkDir(one, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		files++
		name, _ := filepath.Rel(one, path)
		mine, _ := os.ReadFile(path)
		other, err := os.ReadFile(filepath.Join(two, name))
		if err != nil || string(mine) != string(other) {
			t.Errorf("%q is not the same for the same seed: %v", name, err)
		}
		if len(mine) == 32<<20 {
			large++
		}
		if ext := filepath.Ext(name); ext == ".JPG" || ext == ".png" {
			file, _ := os.Open(path)
			defer file.Close()
			if _, _, err := image.DecodeConfig(file); err != nil {
				t.Errorf("%q is not a picture: %v", name, err)
			}
		}
		if info, _ := entry.Info(); info.ModTime().After(time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)) {
			t.Errorf("%q has the time of its making", name)
		}
		return nil
	})
	if err != nil || files != made.Files || large != 1 {
		t.Errorf("%d files for %d, %d of 32 MiB, %v", files, made.Files, large, err)
	}
}

// TestLog has the gauges add a file, which is whole when it appears.
func TestLog(t *testing.T) {
	folder := filepath.Join(t.TempDir(), demo.GaugeFolder)
	ctx, cancel := context.WithCancel(t.Context())
	logged := make(chan error, 1)
	go func() { logged <- demo.Log(ctx, folder, time.Second) }()
	for deadline := time.Now().Add(20 * time.Second); ; {
		found, _ := filepath.Glob(filepath.Join(folder, "*", "live", "*.csv"))
		if len(found) > 0 {
			data, err := os.ReadFile(found[0])
			if err != nil || !strings.HasPrefix(string(data), "time,level_m") || strings.Count(string(data), "\n") != 2 {
				t.Errorf("%s holds %q, %v", found[0], data, err)
			}
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("nothing was logged")
		}
		<-time.After(20 * time.Millisecond)
	}
	cancel()
	if err := <-logged; err != nil {
		t.Error(err)
	}
}
