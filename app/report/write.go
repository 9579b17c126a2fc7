package report

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"millgate/app/fault"
	"millgate/app/past"
)

// forms are what writes a report, by the ending of a file's name.
var forms = map[string]func(*Report, io.Writer) error{".sarif": (*Report).SARIF, ".xml": (*Report).JUnit,
	".html": (*Report).HTML, ".md": (*Report).Markdown, ".csv": (*Report).CSV, ".json": (*Report).JSON,
	".har": (*Report).HAR}

// Endings are those by which a form is chosen.
const Endings = ".sarif, .xml (JUnit), .html, .md, .csv, .json, .har"

// Writable says whether the ending of a name chooses a form.
func Writable(path string) error {
	if forms[strings.ToLower(filepath.Ext(path))] == nil {
		return fmt.Errorf("%w: %s does not say by its ending what it is to be; use one of %s", fault.ErrInput, path,
			Endings)
	}
	return nil
}

// As writes a report in the form that an ending chooses, as in ".html".
func (r *Report) As(ending string, w io.Writer) error {
	write := forms[strings.ToLower(ending)]
	if write == nil {
		return Writable("report" + ending)
	}
	return write(r, w)
}

// Save writes a report to a file in the form that its ending chooses, whole or not at all.
func (r *Report) Save(path string) error { return r.SaveAs(path, filepath.Ext(path)) }

// SaveAs is Save with the ending of another name.
func (r *Report) SaveAs(path, ending string) error {
	if forms[strings.ToLower(ending)] == nil {
		return Writable(path)
	}
	return Whole(path, func(w io.Writer) error { return r.As(ending, w) })
}

// Whole writes a file that is its owner's alone, whole or not at all.
func Whole(path string, write func(io.Writer) error) error {
	part := path + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, err)
	}
	if err = errors.Join(write(f), f.Close()); err == nil {
		err = os.Rename(part, path)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("%s cannot be written: %w", path, err), os.Remove(part))
	}
	return nil
}

// JSON writes all that a report has; docs/result.schema.json describes it.
func (r *Report) JSON(w io.Writer) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(r)
}

// Read reads a report that JSON wrote.
func Read(path string) (*Report, error) {
	var r Report
	if err := past.Decode(path, &r); err != nil {
		return nil, err
	}
	if r.Sweep.State == "" {
		return nil, fmt.Errorf("%w: %s does not say how its sweep ended", fault.ErrInput, path)
	}
	return &r, nil
}
