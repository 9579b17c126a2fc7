package main

import (
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"millgate/app"
	"millgate/app/importing"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/inventory"
	"millgate/core/review"
)

// bringing is what an import is asked for.
type bringing struct {
	into, kind, host, origin, format string
	templates, proposals             []string
	unclear, gone, dry               bool
}

// brought is what one file would do, and what of it is taken.
type brought struct {
	importing.Preview
	taken     []string // keys of items
	proposals []string // ids
}

func importCommand() *cobra.Command {
	var w bringing
	c := &cobra.Command{
		Use:   "import FILE...",
		Short: "Bring routes in from descriptions, recordings, logs and tables",
		Long: `Bring routes in from descriptions (OpenAPI 3.0 and 3.1), recordings of a browser (HAR), access logs,
tables (CSV) and lines (METHOD /path, as a service prints them).

With --into they are merged into a declaration, which is made where there is none; its comments
and its form stay. Without it a new declaration is printed. Taken is what is new or changed; what
is unclear or gone is told, and taken only when asked for, as are proposals.

Exit codes: 2 a file cannot be read or merged; else 0.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(w.format); err != nil {
				return err
			}
			into := w.into
			if into == "" {
				dir, clear, err := scratch()
				if err != nil {
					return err
				}
				defer clear()
				into = filepath.Join(dir, "declaration.gate.yaml")
			}
			return within(cmd, "", into, func(a *app.App) error { return w.bring(cmd, a, args, filepath.Dir(into)) })
		},
	}
	c.Flags().StringVar(&w.into, "into", "", "the declaration, a `FILE`, to merge into")
	c.Flags().StringVar(&w.kind, "kind", "", "openapi, har, log, csv or lines; found out from the text when empty")
	c.Flags().StringVar(&w.host, "host", "", "`NAME` of the target's host that the paths are on")
	c.Flags().StringVar(&w.origin, "origin", "", "of a recording or a log: the origin to take, as in "+
		"https://api.example; by default that of a target, or the one seen most")
	c.Flags().StringArrayVar(&w.templates, "template", nil, "`PATH` that corrects how paths are folded, as in "+
		"/things/{id}; again for several")
	c.Flags().StringArrayVar(&w.proposals, "propose", nil, "`ID` of a proposal to take as well, or all; again for "+
		"several")
	c.Flags().BoolVar(&w.unclear, "unclear", false, "take what is unclear as well")
	c.Flags().BoolVar(&w.gone, "gone", false, "remove routes that the source had and has no more")
	c.Flags().BoolVar(&w.dry, "dry-run", false, "say what would be done, and write nothing")
	formatFlag(c, &w.format)
	return c
}

// bring merges files one after the other, and writes what came of it.
func (w bringing) bring(cmd *cobra.Command, a *app.App, paths []string, folder string) error {
	now := a.Workspace.Declaration()
	if d, msgs := a.Workspace.Document(); now.Text != "" && declaration.Failed(msgs) {
		errs := cmd.ErrOrStderr()
		printMessages(errs, painter(errs), review.Review(d, msgs, now.KeptAt))
		return exit{exitWrong, fmt.Errorf("%s has errors; mend them first", w.into)}
	}
	text, routes := now.Text, 0
	var list []brought
	for _, path := range paths {
		q, err := importing.Source(path, folder)
		if err != nil {
			return exit{exitWrong, err}
		}
		q.Kind, q.Host, q.Origin, q.Templates, q.Text = w.kind, w.host, w.origin, w.templates, text
		b := brought{}
		if b.Preview, err = a.Imports.Preview(q); err != nil {
			return exit{exitWrong, fmt.Errorf("%s: %w", path, err)}
		}
		take := b.Usual(w.unclear, w.gone)
		for _, c := range take {
			b.taken = append(b.taken, c.Key)
		}
		for _, p := range b.Proposals {
			if slices.Contains(w.proposals, p.ID) || slices.Contains(w.proposals, "all") {
				b.proposals = append(b.proposals, p.ID)
			}
		}
		if b.Name = path; !w.dry {
			n := 0
			if text, n, err = a.Imports.Import(q, take, b.proposals); err != nil {
				return exit{exitWrong, fmt.Errorf("%s: %w", path, err)}
			}
			routes += n
		}
		list = append(list, b)
	}
	if err := w.unknown(list); err != nil {
		return err
	}
	if w.into != "" && !w.dry && text != now.Text {
		if _, err := a.Workspace.Keep(cmd.Context(), text, "Routes from "+strings.Join(paths, ", "),
			now.Revision); err != nil {
			return exit{exitWrong, err}
		}
	}
	return w.say(cmd, list, text, routes)
}

// unknown says which proposal that was asked for nobody makes.
func (w bringing) unknown(list []brought) error {
	var ids []string
	for _, b := range list {
		for _, p := range b.Proposals {
			ids = append(ids, p.ID)
		}
	}
	for _, id := range w.proposals {
		if id == "all" || slices.Contains(ids, id) {
			continue
		}
		there := "nothing is proposed"
		if len(ids) > 0 {
			there = "there are " + strings.Join(ids, ", ")
		}
		return exit{exitWrong, fmt.Errorf("--propose: there is no proposal %q; %s", id, declaration.HintAt(id, ids,
			there))}
	}
	return nil
}

// say prints what was done, or would be: on the error stream where the text itself is printed.
func (w bringing) say(cmd *cobra.Command, list []brought, text string, routes int) error {
	out := cmd.OutOrStdout()
	whole := w.into == "" && !w.dry
	if w.format == "json" {
		res := map[string]any{"files": filesOf(list), "routes": routes, "into": w.into,
			"written": w.into != "" && !w.dry}
		if whole {
			res["text"] = text
		}
		return writeJSON(out, res)
	}
	to := out
	if whole {
		to = cmd.ErrOrStderr()
	}
	for _, b := range list {
		b.print(to, painter(to))
	}
	switch {
	case w.dry:
		fmt.Fprintln(to, "nothing was written")
	case w.into == "":
		_, err := io.WriteString(out, text)
		return err
	default:
		fmt.Fprintf(to, "%d routes are in %s; next: millgate review %s\n", routes, w.into, w.into)
	}
	return nil
}

// print says what a file would do.
func (b brought) print(out io.Writer, p paint) {
	counts := map[inventory.State]int{}
	for _, it := range b.Items {
		counts[it.State]++
	}
	var parts []string
	for _, s := range []inventory.State{inventory.New, inventory.Changed, inventory.Unclear, inventory.Gone,
		inventory.Same} {
		if counts[s] > 0 {
			parts = append(parts, fmt.Sprint(counts[s], " ", s))
		}
	}
	line := fmt.Sprintf("%s (%s): %s", b.Name, b.Kind, strings.Join(parts, ", "))
	if b.Origin != "" {
		line += ", of " + b.Origin
	}
	fmt.Fprintln(out, p.bold(line))
	for _, it := range b.Items {
		if it.State == inventory.Same {
			continue
		}
		mark, state := "+", string(it.State)
		if !slices.Contains(b.taken, it.Key) {
			mark = " "
		}
		if it.State == inventory.Gone && mark == "+" {
			mark = "-"
		}
		line := fmt.Sprintf("%s %-8s %s", mark, state, it.Key)
		if it.Note != "" {
			line += "  " + p.faint(it.Note)
		}
		fmt.Fprintln(out, line)
	}
	for _, x := range b.Problems {
		where := b.Name
		if x.Line > 0 {
			where = fmt.Sprint(where, ":", x.Line)
		}
		fmt.Fprintf(out, "%s %s: %s\n", p.warn("not read"), where, x.Text)
	}
	for _, n := range b.Notes {
		fmt.Fprintln(out, p.faint(n))
	}
	for _, x := range b.Preview.Proposals {
		mark := " "
		if slices.Contains(b.proposals, x.ID) {
			mark = "+"
		}
		fmt.Fprintf(out, "%s proposed %q: %s\n      %s\n      %s\n", mark, x.ID, x.Title, x.Text, p.faint(x.Note))
	}
}

// filesOf are previews as JSON has them.
func filesOf(list []brought) []any {
	out := []any{}
	for _, b := range list {
		items, problems, proposals := []any{}, []any{}, []any{}
		for _, it := range b.Items {
			items = append(items, map[string]any{"route": it.Key, "state": it.State, "note": it.Note,
				"taken": slices.Contains(b.taken, it.Key), "summary": it.Summary, "seen": it.Count, "line": it.Line,
				"send": layout.SampleText(it.Sample)})
		}
		for _, x := range b.Problems {
			problems = append(problems, map[string]any{"line": x.Line, "text": x.Text})
		}
		for _, x := range b.Preview.Proposals {
			proposals = append(proposals, map[string]any{"id": x.ID, "title": x.Title, "text": x.Text, "note": x.Note,
				"taken": slices.Contains(b.proposals, x.ID)})
		}
		out = append(out, map[string]any{"file": b.Name, "kind": b.Kind, "origin": b.Origin, "items": items,
			"problems": problems, "proposals": proposals, "notes": orEmpty(b.Notes)})
	}
	return out
}
