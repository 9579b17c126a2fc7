package workspace

import (
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"

	"millgate/core/declaration"
	"millgate/format/openapi"
)

// FilesIn reads what a declaration in a directory names, and nothing outside
// it.
func FilesIn(dir string) declaration.Files {
	return declaration.Files{Routes: Importer(dir), Text: func(ref string) ([]byte,
		error) {
		return ReadBeside(dir, ref)
	}}
}

// ReadBeside reads a file in a directory, wherever its name tries to lead.
func ReadBeside(dir, ref string) ([]byte, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("the folder cannot be opened: %w", err)
	}
	defer root.Close() //nolint:errcheck // nothing was written
	b, err := root.ReadFile(filepath.Clean(ref))
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("there is no such file beside the declaration")
	}
	if err != nil {
		return nil, fmt.Errorf("it cannot be read: %v", err)
	}
	return b, nil
}

// Importer reads OpenAPI files from a directory, and nothing outside it.
func Importer(dir string) declaration.Importer {
	return func(ref string) ([]declaration.Imported, []error) {
		b, err := ReadBeside(dir, ref)
		if err != nil {
			return nil, []error{err}
		}
		return openapi.Read(b, besides(dir, ref))
	}
}

// besides reads files by their path relative to another in a directory.
func besides(dir, of string) openapi.Load {
	return func(ref string) ([]byte, error) {
		return ReadBeside(dir, filepath.FromSlash(besideOf(of, ref)))
	}
}

// keptFiles reads what a revision was kept with; what it was not kept with is
// read from the folder.
func (ws *Workspace) keptFiles(kept map[string]string) declaration.Files {
	dir, _ := ws.Where()
	read := func(ref string) ([]byte, error) {
		if t, ok := kept[ref]; ok {
			return []byte(t), nil
		}
		return ReadBeside(dir, ref)
	}
	return declaration.Files{Text: read, Routes: func(ref string) ([]declaration.Imported, []error) {
		b, err := read(ref)
		if err != nil {
			return nil, []error{err}
		}
		return openapi.Read(b, func(other string) ([]byte, error) { return read(besideOf(ref, other)) })
	}}
}

// besideOf is the name of a file in the folder that another one there refers to.
func besideOf(of, ref string) string {
	return path.Join(path.Dir(filepath.ToSlash(of)), filepath.ToSlash(ref))
}

// filesOf are the texts in a folder that a document was made from beside its own, with those that its descriptions
// refer to.
func filesOf(d *declaration.Document, dir string) map[string]string {
	out := map[string]string{}
	put := func(name string) {
		if name == "" || out[name] != "" {
			return
		}
		if b, err := ReadBeside(dir, name); err == nil {
			out[name] = string(b)
		}
	}
	for _, r := range d.Routes {
		if r.From == "" || out[r.From] != "" {
			continue
		}
		put(r.From)
		for _, ref := range openapi.Refers([]byte(out[r.From]), besides(dir, r.From)) {
			put(besideOf(r.From, ref))
		}
	}
	for _, n := range d.Includes {
		put(n)
	}
	return out
}
