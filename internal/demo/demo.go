// Package demo ships the sample world: the basin of the Orrin Firth, made by the command in the
// folder make. Nothing in it exists.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

//go:generate go run ./make world

//go:embed world
var world embed.FS

// Files are the names of the sample files.
func Files() []string {
	entries, err := fs.ReadDir(world, "world")
	if err != nil {
		panic(err) // the files are part of the program
	}
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

// File is the content of a sample file.
func File(name string) ([]byte, error) { return world.ReadFile("world/" + name) }

// Write puts the sample files into a folder, which it makes. A file that is there with other
// content is an error unless force is set.
func Write(dir string, force bool) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("%s: the folder cannot be made (%w): choose another place", dir, err)
	}
	for _, name := range Files() {
		data, err := File(name)
		if err != nil {
			return err
		}
		path := filepath.Join(dir, name)
		if old, err := os.ReadFile(path); err == nil && !force && string(old) != string(data) {
			return fmt.Errorf("%s: it exists with other content: choose another folder, or replace it with --force", path)
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			return fmt.Errorf("%s: it cannot be written (%w)", path, err)
		}
	}
	return nil
}
