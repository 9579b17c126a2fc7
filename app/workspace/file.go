package workspace

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"millgate/app/fault"
)

// Rule: A text that cannot be kept changes neither its file nor what is known.

// fresh is the mode of a file that was not there, before the process's own mask.
const fresh = 0o644

// replacement is a text that is on disk beside the file whose place it is to take.
type replacement struct {
	path, beside string
	was          fileStamp // of the file when this was written
}

// replacing writes a text beside a file: with its mode, and where the file is a link beside
// what that leads to.
func replacing(path, text string) (r *replacement, err error) {
	cannot := func(err error) error { return fmt.Errorf("%s cannot be written: %w", path, err) }
	if to, err := filepath.EvalSymlinks(path); err == nil {
		path = to
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, cannot(err)
	}
	mode := fs.FileMode(fresh)
	info, err := os.Stat(path)
	if err == nil {
		mode = info.Mode().Perm()
	}
	name := make([]byte, 6)
	_, _ = rand.Read(name) // crypto/rand never fails
	r = &replacement{path, filepath.Join(filepath.Dir(path), ".gate-"+hex.EncodeToString(name)), stampOf(path)}
	f, err := os.OpenFile(r.beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return nil, cannot(err)
	}
	_, werr := f.WriteString(text)
	if info != nil {
		werr = errors.Join(werr, f.Chmod(mode)) // the process's mask may have narrowed it
	}
	if err := errors.Join(werr, f.Sync(), f.Close()); err != nil {
		return nil, errors.Join(cannot(err), os.Remove(r.beside))
	}
	return r, nil
}

// take puts it in the file's place, at once. A file that somebody wrote meanwhile stays.
func (r *replacement) take() error {
	if stampOf(r.path) != r.was {
		return fmt.Errorf("%w: %s was changed on disk meanwhile; compare it with your text and keep it again",
			fault.ErrInput,
			r.path)
	}
	if err := os.Rename(r.beside, r.path); err != nil {
		return fmt.Errorf("%s cannot be written: %w", r.path, err)
	}
	r.beside = ""
	return nil
}

// drop leaves nothing of one that was not taken.
func (r *replacement) drop() {
	if r.beside != "" {
		_ = os.Remove(r.beside) // a file of ours that stays does no harm
	}
}

// ReplaceFile replaces a file as a whole, so that a crash leaves the old one. It keeps its mode.
func ReplaceFile(path, text string) error {
	r, err := replacing(path, text)
	if err != nil {
		return err
	}
	defer r.drop()
	return r.take()
}

// fileStamp tells whether a file was written since it was read.
type fileStamp struct {
	at   time.Time
	size int64
}

func stampOf(path string) fileStamp {
	i, err := os.Stat(path)
	if err != nil {
		return fileStamp{}
	}
	return fileStamp{i.ModTime(), i.Size()}
}
