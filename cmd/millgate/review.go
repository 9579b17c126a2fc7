package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"millgate/app/workspace"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/review"
)

func formatFlag(c *cobra.Command, into *string) {
	c.Flags().StringVar(into, "format", "text", "text or json")
}

func checkFormat(f string) error {
	if f != "text" && f != "json" {
		return exit{exitWrong, fmt.Errorf("--format is text or json, not %q", f)}
	}
	return nil
}

// readDeclaration parses a file with the files beside it.
func readDeclaration(file string) (*declaration.Document, []declaration.Message, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			err = fmt.Errorf("there is no file %s", file)
		}
		return nil, nil, exit{exitWrong, err}
	}
	d, msgs := declaration.ParseFiles(filepath.Base(file), text, workspace.FilesIn(filepath.Dir(file)))
	return d, msgs, nil
}

// meant reads a declaration that must be without errors.
func meant(cmd *cobra.Command, file string) (*declaration.Document, error) {
	d, msgs, err := readDeclaration(file)
	if err == nil && declaration.Failed(msgs) {
		w := cmd.ErrOrStderr()
		printMessages(w, painter(w), review.Review(d, msgs, time.Now()))
		err = exit{exitWrong, fmt.Errorf("%s has errors", file)}
	}
	return d, err
}

func printMessages(w io.Writer, p paint, msgs []review.Message) {
	for _, m := range msgs {
		level := p.warn(string(m.Severity))
		if m.Level == declaration.Error {
			level = p.bad("error")
		} else if m.Severity.AtLeast(finding.High) {
			level = p.bad(string(m.Severity))
		}
		fmt.Fprintf(w, "%s: %s: %s [%s]\n", m.Place, level, m.Text, m.Code)
		if m.Hint != "" {
			fmt.Fprintf(w, "    %s\n", p.faint(m.Hint))
		}
	}
}

// reported is a message as JSON.
type reported struct {
	File     string `json:"file"`
	Line     int    `json:"line"`
	Column   int    `json:"column"`
	Level    string `json:"level"`
	Check    string `json:"check"`
	Severity string `json:"severity"`
	OWASP    string `json:"owasp,omitempty"`
	CWE      int    `json:"cwe,omitempty"`
	Subject  string `json:"subject"`
	Route    string `json:"route,omitempty"`
	Text     string `json:"text"`
	Hint     string `json:"hint,omitempty"`
	Fix      string `json:"fix,omitempty"`
	Waived   string `json:"waived,omitempty"` // the reason
}

func reviewed(list []review.Message) []reported {
	out := []reported{}
	for _, m := range list {
		r := reported{File: m.File, Line: m.Line, Column: m.Column, Level: string(m.Level), Check: m.Code,
			Severity: string(m.Severity), OWASP: m.OWASP, CWE: m.CWE, Subject: m.Subject, Route: m.Route, Text: m.Text,
			Hint: m.Hint}
		if m.Fix != nil {
			r.Fix = m.Fix.Title
		}
		if m.Waived != nil {
			r.Waived = m.Waived.Reason
		}
		out = append(out, r)
	}
	return out
}

func reviewCommand() *cobra.Command {
	var format, failOn string
	c := &cobra.Command{
		Use:   "review FILE",
		Short: "Say what a declaration lets happen, without sending anything",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			if failOn != "" && !finding.Severity(failOn).AtLeast(finding.Low) {
				return exit{exitWrong, fmt.Errorf("--fail-on is low, medium, high or critical, not %q", failOn)}
			}
			d, msgs, err := readDeclaration(args[0])
			if err != nil {
				return err
			}
			all := review.Review(d, msgs, time.Now())
			list := review.Open(all)
			out := cmd.OutOrStdout()
			if format == "json" {
				if err := writeJSON(out, map[string]any{"messages": reviewed(all), "routes": len(d.Routes),
					"identities": len(d.Identities), "entries": len(d.Access)}); err != nil {
					return err
				}
			} else {
				printMessages(out, painter(out), list)
				fmt.Fprintf(out, "%d routes, %d identities, %d access entries, %s", len(d.Routes), len(d.Identities),
					len(d.Access), count(len(list), "message"))
				if n := len(all) - len(list); n > 0 {
					fmt.Fprintf(out, ", %d more waived", n)
				}
				fmt.Fprintln(out)
			}
			if declaration.Failed(msgs) {
				return exit{exitWrong, nil}
			}
			for _, m := range list {
				if failOn != "" && m.Severity.AtLeast(finding.Severity(failOn)) {
					return exit{exitFindings, nil}
				}
			}
			return nil
		},
	}
	formatFlag(c, &format)
	c.Flags().StringVar(&failOn, "fail-on", "", "exit with 1 from this severity on: low, medium, high, critical")
	return c
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func writeJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
