package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"millgate/app"
	"millgate/core/declaration"
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

// readDeclaration parses a file with the OpenAPI files beside it.
func readDeclaration(file string) (*declaration.Document, []declaration.Message, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			err = fmt.Errorf("there is no file %s", file)
		}
		return nil, nil, exit{exitWrong, err}
	}
	d, msgs := declaration.Parse(filepath.Base(file), text, app.Importer(filepath.Dir(file)))
	return d, msgs, nil
}

func printMessages(w io.Writer, p paint, msgs []declaration.Message) {
	for _, m := range msgs {
		level := p.warn(string(m.Level))
		if m.Level == declaration.Error {
			level = p.bad(string(m.Level))
		}
		fmt.Fprintf(w, "%s: %s: %s [%s]\n", m.Place, level, m.Text, m.Code)
		if m.Hint != "" {
			fmt.Fprintf(w, "    %s\n", p.faint(m.Hint))
		}
	}
}

func reviewCommand() *cobra.Command {
	var format string
	c := &cobra.Command{
		Use:   "review FILE",
		Short: "Check a declaration without sending anything",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			d, msgs, err := readDeclaration(args[0])
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			if format == "json" {
				e := json.NewEncoder(out)
				e.SetIndent("", "  ")
				if err := e.Encode(map[string]any{"messages": append([]declaration.Message{}, msgs...), "routes": len(d.Routes), "identities": len(d.Identities), "entries": len(d.Access)}); err != nil {
					return err
				}
			} else {
				printMessages(out, painter(out), msgs)
				fmt.Fprintf(out, "%d routes, %d identities, %d access entries, %d messages\n", len(d.Routes), len(d.Identities), len(d.Access), len(msgs))
			}
			if declaration.Failed(msgs) {
				return exit{exitWrong, nil}
			}
			return nil
		},
	}
	formatFlag(c, &format)
	return c
}
