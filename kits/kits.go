// Package kits holds the kits that come with the program: settings for machines and programs of one kind, each
// a folder of settings files with its tests. Nothing here reads or runs them: it hands out their texts.
package kits

import (
	"embed"
	"io/fs"
	"path"
	"slices"
	"strings"
)

//go:embed */*.lantern
var files embed.FS

// Prefix is how the names of files begin that lie in the binary, and on no disk.
const Prefix = "kit "

// File is a settings file of a kit.
type File struct {
	Name string // kit NAME/FILE
	Body string
}

// Names are the names of all kits, in their order.
func Names() []string {
	list, err := fs.ReadDir(files, ".")
	if err != nil {
		panic(err) // it is part of the binary
	}
	var out []string
	for _, d := range list {
		out = append(out, d.Name())
	}
	return out
}

// Files are the files of a kit, by their names; nil where there is no such kit.
func Files(kit string) []File {
	if !slices.Contains(Names(), kit) {
		return nil
	}
	list, err := fs.Glob(files, kit+"/*.lantern")
	if err != nil {
		panic(err)
	}
	var out []File
	for _, name := range list {
		b, err := files.ReadFile(name)
		if err != nil {
			panic(err)
		}
		out = append(out, File{Prefix + kit + "/" + path.Base(name), string(b)})
	}
	return out
}

// Inside tells whether a settings file of that name lies in the binary.
func Inside(name string) bool { return strings.HasPrefix(name, Prefix) }
