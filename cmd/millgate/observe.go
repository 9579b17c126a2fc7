package main

import (
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"millgate/app"
	"millgate/app/observing"
	"millgate/core/declaration"
	"millgate/core/observe"
	"millgate/store"
)

// watching is what an observation is asked for.
type watching struct {
	target, data, format string
	choice               observe.Choice
	confirm, guess       []string
}

func observeCommand() *cobra.Command {
	var w watching
	c := &cobra.Command{
		Use:   "observe FILE",
		Short: "Ask a service what it lets happen today, and propose access entries that say so",
		Long: `Ask a target with safe reads, as nobody and as each caller, what it lets happen today, and show that in
groups, what looks wrong first, each with the shortest access entry that says exactly this.

Asked are the routes of which nobody has decided who may call them (who: undecided). Nothing is sent that
takes a link, or whose path or summary says that it does something, unless --also names it. Nothing is
approved by itself: --confirm writes what a group says into FILE, and what is left stays undecided.

Exit codes: 2 the declaration has errors; 3 nothing could be told of any route, or it was stopped; else 0.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(w.format); err != nil {
				return err
			}
			file, err := filepath.Abs(args[0])
			if err != nil {
				return exit{exitWrong, err}
			}
			return within(cmd, w.data, file, func(a *app.App) error { return w.observe(cmd, a, args[0]) })
		},
	}
	c.Flags().StringVar(&w.target, "target", "", "`NAME` of the target; its first one when empty")
	c.Flags().StringVar(&w.data, "data", "",
		"`DIR` of the data, to look at it in the interface later; none keeps nothing")
	c.Flags().StringArrayVar(&w.choice.Callers, "caller", nil,
		"`IDENTITY` to ask as, beside nobody; again for several, all "+
			"when none is given")
	c.Flags().StringArrayVar(&w.choice.Also, "also", nil,
		"`ROUTE` to ask for although it sounds as if it did something")
	c.Flags().BoolVar(&w.choice.All, "all", false, "ask every read, also those that are decided")
	c.Flags().StringArrayVar(&w.confirm, "confirm", nil,
		"`ID` of a group to write into FILE, or all of which nothing looks "+
			"wrong; again for several")
	c.Flags().StringArrayVar(&w.guess, "guess", nil,
		"`ROUTE` of a write to write into FILE as it is guessed, or all; again "+
			"for several")
	formatFlag(c, &w.format)
	return c
}

// observe asks, and says what came of it.
func (w watching) observe(cmd *cobra.Command, a *app.App, name string) error {
	now := a.Workspace.Present()
	t := now.Pick(w.target)
	if w.target != "" && (t == nil || t.Name != w.target) || t == nil {
		return exit{exitWrong, fmt.Errorf("%s has no target %q", name, w.target)}
	}
	if err := a.Observing.Start(cmd.Context(), t.Name, w.choice); err != nil {
		return exit{exitWrong, err}
	}
	a.Observing.Wait(cmd.Context(), t.Name)
	l, err := a.Observing.Look(cmd.Context(), t.Name, "")
	if err != nil {
		return exit{exitTarget, err}
	}
	var wrote []string
	if len(w.confirm)+len(w.guess) > 0 && l.State == store.Done {
		if wrote, err = w.write(cmd, a, t.Name, now.Text, now.Revision.ID); err != nil {
			return err
		}
		if l, err = a.Observing.Look(cmd.Context(), t.Name, ""); err != nil {
			return exit{exitTarget, err}
		}
	}
	if err := w.say(cmd.OutOrStdout(), l, wrote); err != nil {
		return err
	}
	told := slices.ContainsFunc(l.Groups, func(g observe.Group) bool { return g.Why == "" })
	if !told || l.State != store.Done {
		note := l.Note
		if note == "" {
			note = "nothing could be told of any route"
		}
		return exit{exitTarget, fmt.Errorf("%s", note)}
	}
	return nil
}

// write writes what was confirmed into the file. Guesses are made again once the reads beside them are decided.
func (w watching) write(cmd *cobra.Command, a *app.App, target, text string, base uint) (wrote []string, err error) {
	at := time.Now()
	out, wrote, err := a.Observing.Confirm(cmd.Context(), target, text, w.confirm, nil, at)
	if err != nil {
		return nil, exit{exitWrong, err}
	}
	if len(w.guess) > 0 {
		l, err := a.Observing.Look(cmd.Context(), target, out)
		if err != nil {
			return nil, exit{exitTarget, err}
		}
		guess := w.guess
		if slices.Contains(guess, "all") {
			guess = nil
			for _, e := range l.Guesses {
				guess = append(guess, e.Routes...)
			}
		}
		var more []string
		if out, more, err = a.Observing.Confirm(cmd.Context(), target, out, nil, guess, at); err != nil {
			return nil, exit{exitWrong, err}
		}
		wrote = append(wrote, more...)
	}
	if out != text {
		if _, err := a.Workspace.Keep(cmd.Context(), out, "Observed at "+target, base); err != nil {
			return nil, exit{exitWrong, err}
		}
	}
	return wrote, nil
}

// say prints the groups.
func (w watching) say(out io.Writer, l observing.Look, wrote []string) error {
	if w.format == "json" {
		groups := []any{}
		for _, g := range l.Groups {
			groups = append(groups, map[string]any{"id": g.ID, "title": g.Title, "says": g.Says, "odd": g.Odd,
				"why":   g.Why,
				"marks": g.Marks, "routes": g.Keys(l.Doc), "entry": g.Text(), "guessed": g.Guessed,
				"confirmed": g.Confirmed})
		}
		guesses := []any{}
		for _, x := range l.Guesses {
			guesses = append(guesses, map[string]any{"routes": x.Routes, "how": x.How, "entry": x.Rule.Text()})
		}
		return writeJSON(out, map[string]any{"target": l.Target, "state": l.State, "note": l.Note, "reads": l.Done,
			"decided": l.Decided, "routes": l.Routes, "groups": groups, "guesses": guesses, "left": l.Left,
			"lost":  orEmpty(l.Lost),
			"wrote": orEmpty(wrote)})
	}
	p := painter(out)
	fmt.Fprintf(out, "%s: %s; %d of %d routes are decided\n", p.bold(l.Target), count(l.Done, "safe read"), l.Decided,
		l.Routes)
	for _, g := range l.Groups {
		head := p.bold(g.Title)
		switch {
		case g.Odd != "":
			head += "  " + p.warn("looks wrong")
		case g.Confirmed:
			head += "  " + p.good("decided so")
		}
		fmt.Fprintf(out, "\n%s  %s\n    %s\n", head, p.faint(g.ID), g.Says)
		fmt.Fprintf(out, "    %s\n", strings.Join(marksInWords(l.Doc, g), "  "))
		for _, key := range g.Keys(l.Doc) {
			fmt.Fprintf(out, "    %s\n", key)
		}
		if g.Entry != nil {
			fmt.Fprintf(out, "    - %s\n", g.Text())
		}
	}
	for _, x := range l.Guesses {
		fmt.Fprintf(out, "\n%s  %s\n    %s\n", p.faint("not sent, "+x.How), strings.Join(x.Routes, ", "),
			strings.TrimPrefix(
				x.Rule.Text(), "{ at: [], "))
	}
	for _, id := range l.Lost {
		fmt.Fprintf(out, "%s %s, so that its refusals mean nothing\n", p.warn("not known:"), id)
	}
	for _, x := range l.Left {
		fmt.Fprintf(out, "%s %s: %s\n", p.warn("not asked:"), strings.TrimSpace(x.Route+" "+x.Caller), x.Why)
	}
	for _, line := range wrote {
		fmt.Fprintf(out, "%s %s\n", p.good("written:"), line)
	}
	return nil
}

// marksInWords says what each caller meets.
func marksInWords(d *declaration.Document, g observe.Group) (out []string) {
	words := map[observe.Mark]string{observe.In: "in", observe.Some: "some", observe.Away: "away", observe.Unknown: "?"}
	say := func(name, caller string) {
		m := words[g.Marks[caller]]
		if on := g.On(d, caller); len(on) > 0 {
			m = strings.Join(declaration.OnNames(on), " or ")
		}
		out = append(out, name+" "+m)
	}
	say("nobody", "")
	for _, id := range d.Identities {
		if _, asked := g.Marks[id.Name]; asked {
			say(id.Name, id.Name)
		}
	}
	return out
}
