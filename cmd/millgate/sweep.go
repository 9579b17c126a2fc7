package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"millgate/app"
	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/planning"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/review"
)

// paint colours words on a terminal, and leaves them alone in a pipe.
type paint bool

func painter(w io.Writer) paint {
	s, ok := w.(*screen)
	return paint(ok && s.terminal && os.Getenv("NO_COLOR") == "")
}

func (p paint) with(code, s string) string {
	if !p {
		return s
	}
	return sgr(code) + s + sgr("0")
}

func (p paint) bad(s string) string   { return p.with("31", s) }
func (p paint) warn(s string) string  { return p.with("33", s) }
func (p paint) good(s string) string  { return p.with("32", s) }
func (p paint) faint(s string) string { return p.with("2", s) }
func (p paint) bold(s string) string  { return p.with("1", s) }

// sweeping is what a sweep is asked for.
type sweeping struct {
	target, base, format, data string
	level                      finding.Severity
	planOnly, keepGoing        bool
	mostUnproven               float64
	keep                       retention
}

func sweepCommand() *cobra.Command {
	var w sweeping
	var failOn string
	c := &cobra.Command{
		Use:   "sweep FILE --target NAME",
		Short: "Probe a target and say where it parts from the declaration",
		Long: `Probe a target and say where it parts from the declaration.

Exit codes: 2 the declaration or the arguments are wrong; else 3 the result is none
to build on (a credential that a control needs could not be obtained, more than one
in ten routes have no admitted control, too much is unproven or unsent, it was
stopped, or it could not be stored); else 1 findings at or above --fail-on; else 0.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(w.format); err != nil {
				return err
			}
			w.level = finding.Severity(failOn)
			if !slices.Contains(finding.Severities, w.level) {
				return exit{exitWrong, fmt.Errorf("--fail-on is low, medium, high or critical, not %q", failOn)}
			}
			if !(w.mostUnproven >= 0 && w.mostUnproven <= 100) {
				return exit{exitWrong, fmt.Errorf("--most-unproven is a share between 0 and 100 percent, not %v",
					w.mostUnproven)}
			}
			kept, err := w.keep.read()
			if err != nil {
				return err
			}
			if _, _, err := readDeclaration(args[0]); err != nil {
				return err
			}
			a, err := app.Open(cmd.Context(), w.data, args[0])
			if err != nil {
				return exit{exitWrong, err}
			}
			a.Sweeps.KeepGoing, a.Sweeps.Retention = w.keepGoing, kept
			err = runSweep(cmd, a, w)
			if cerr := a.Close(); err == nil && cerr != nil {
				err = exit{exitTarget, cerr}
			}
			return err
		},
	}
	c.Flags().StringVar(&w.target, "target", "", "a target that the declaration names")
	c.Flags().StringVar(&w.base, "base", "", "address in place of the target's base")
	c.Flags().StringVar(&failOn, "fail-on", "high",
		"exit with 1 at this severity or above: low, medium, high, critical")
	c.Flags().Float64Var(&w.mostUnproven, "most-unproven", coverage.DefaultMostUnproven,
		"exit with 3 when more `PERCENT` of the planned crossings are unproven or unsent")
	c.Flags().BoolVar(&w.keepGoing, "keep-going", false, "go on when the target begins to fail")
	c.Flags().StringVar(&w.data, "data", "", "directory to keep the sweep in; it is forgotten when empty")
	w.keep.flags(c)
	c.Flags().BoolVar(&w.planOnly, "plan", false, "say what would be sent, and send nothing")
	formatFlag(c, &w.format)
	if err := c.MarkFlagRequired("target"); err != nil {
		panic(err) // the flag is defined above
	}
	return c
}

func runSweep(cmd *cobra.Command, a *app.App, w sweeping) error {
	out, errs := cmd.OutOrStdout(), cmd.ErrOrStderr()
	p := painter(out)
	if d, msgs := a.Workspace.Document(); declaration.Failed(msgs) {
		printMessages(errs, painter(errs), review.Review(d, msgs, time.Now()))
		return exit{exitWrong, errors.New("the declaration has errors; nothing was sent")}
	}
	plan, err := a.Sweeps.Plan(w.target)
	if err != nil {
		return exit{exitWrong, err}
	}
	if w.planOnly {
		return printPlan(out, p, plan, w.format)
	}
	a.Sweeps.Ask = asker(cmd)
	stream, end := a.Events.Listen(events.Sweeping, events.Waiting)
	defer func() { end() }()
	run, err := a.Sweeps.Start(cmd.Context(), w.target, w.base)
	if err != nil {
		code := exitWrong
		if errors.Is(err, fault.ErrUnreachable) || errors.Is(err, fault.ErrNotStored) {
			code = exitTarget
		}
		return exit{code, err}
	}
	live := painter(errs)
	done := make(chan struct{})
	go func() { a.Sweeps.Wait(run.ID); close(done) }()
	interrupted := cmd.Context().Done()
	for over := false; !over; {
		select {
		case e, ok := <-stream:
			switch {
			case !ok: // it was too slow to listen: begin again
				stream, end = a.Events.Listen(events.Sweeping, events.Waiting)
			case bool(live) && e.Sweep != nil:
				fmt.Fprintf(errs, "%s%d of %d probes, %.0f per s, %.0f s left", clearLine, e.Sweep.Done,
					e.Sweep.Planned, e.Sweep.Pace, e.Sweep.Left)
			case e.Type == events.Waiting && bool(live):
				fmt.Fprintf(errs, "%s%s\n", clearLine, e.Text)
			case e.Type == events.Waiting:
				fmt.Fprintln(errs, e.Text)
			}
		case <-interrupted:
			interrupted = nil
			if err := a.Sweeps.Stop(run.ID); err != nil && !errors.Is(err, fault.ErrNotFound) {
				return exit{exitTarget, err}
			}
		case <-done:
			over = true
		}
	}
	if live {
		fmt.Fprint(errs, clearLine)
	}
	ended, res, err := a.Sweeps.Result(cmd.Context(), run.ID)
	if err != nil {
		return exit{exitTarget, err}
	}
	doubts := res.Doubts(ended, w.mostUnproven)
	if w.format == "json" {
		err = printJSON(out, ended, res, doubts)
	} else {
		printFindings(out, p, ended, res)
	}
	if err != nil {
		return exit{exitTarget, err}
	}
	switch code := res.Code(ended, w.mostUnproven, w.level); code {
	case coverage.Doubts:
		lines := make([]string, len(doubts))
		for i, d := range doubts {
			lines[i] = string(d.Rule) + ": " + d.Text
		}
		return exit{exitTarget, fmt.Errorf("the result is none to build on:\n  %s", strings.Join(lines, "\n  "))}
	case coverage.Found:
		return exit{exitFindings, nil}
	}
	return nil
}

// asker asks on a terminal whether a sweep goes on; nil where nobody can answer.
func asker(cmd *cobra.Command) func(string) bool {
	errs := cmd.ErrOrStderr()
	if s, ok := errs.(*screen); !ok || !s.terminal || !term.IsTerminal(int(os.Stdin.Fd())) {
		return nil
	}
	return func(question string) bool {
		fmt.Fprintf(errs, "%s%s [y/N] ", clearLine, question)
		answer := make(chan bool, 1)
		go func() { // reading from a terminal is not interrupted
			line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
			answer <- strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "y")
		}()
		select {
		case yes := <-answer:
			return yes
		case <-cmd.Context().Done():
			return false
		}
	}
}

// resultVersion is that of the form in which a result is printed as JSON. It changes when
// a member changes its meaning or goes; new ones come without.
const resultVersion = 1

func printJSON(out io.Writer, run *events.Run, res coverage.Result, doubts []coverage.Doubt) error {
	e := json.NewEncoder(out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(map[string]any{"version": resultVersion, "sweep": map[string]any{"target": run.Target,
		"state": run.State, "note": run.Note, "startedAt": run.StartedAt, "endedAt": run.EndedAt},
		"checked": res.Checked, "doubts": doubts, "findings": append([]finding.Finding{}, res.Findings...),
		"counts": res.Counts, "plan": res.Plan, "left": res.Left, "made": res.Made, "unsent": res.Unsent})
}

func printPlan(out io.Writer, p paint, d planning.Detail, format string) error {
	if format == "json" {
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		return e.Encode(map[string]any{"plan": d.Summary, "left": d.Left})
	}
	fmt.Fprintf(out, "%s at %s\n", p.bold(d.Target), d.Base)
	fmt.Fprintf(out, "%d probes, %d with unsafe methods (%d of them on throwaway records), about %d requests in all, "+
		"%.0f s at %s\n", d.Summary.Probes, d.Unsafe, d.Made, d.Requests, d.Seconds, d.Pace)
	if d.Inferred > 0 {
		fmt.Fprintf(out, "%d crossings are inferred from callers that the declaration cannot tell apart\n", d.Inferred)
	}
	for _, l := range d.Left {
		who := l.Caller
		if who != "" {
			who = " as " + who
		}
		fmt.Fprintf(out, "left out: %s%s, %s: %s\n", l.Route, who, l.What, l.Why)
	}
	return nil
}

func printFindings(out io.Writer, p paint, run *events.Run, res coverage.Result) {
	for _, f := range res.Findings {
		sev := p.warn(string(f.Severity))
		if f.Severity.AtLeast(finding.High) {
			sev = p.bad(string(f.Severity))
		}
		fmt.Fprintf(out, "%s %s  %s  %s\n", p.bold(string(f.Kind)), p.bold(f.Where()), f.Title, p.faint(f.ID))
		class := fmt.Sprintf("%s, CWE-%d", f.OWASP, f.CWE)
		if f.Standard != "" {
			class += ", " + f.Standard
		}
		fmt.Fprintf(out, "    %s, %s, %s, %s\n", f.Kind.Name(), sev, f.Confidence, class)
		fmt.Fprintf(out, "    %s\n", f.Reason)
		who := strings.Join(f.Callers, ", ")
		if len(f.Inferred) > 0 {
			who += "; inferred: " + strings.Join(f.Inferred, ", ")
		}
		fmt.Fprintf(out, "    callers: %s\n    %s\n    %s\n\n", who, p.faint(f.Advice), p.faint(f.Docs))
	}
	for _, m := range res.Made {
		fmt.Fprintf(out, "left behind: %s by %s: %s\n", m.What, m.Route, m.Why)
	}
	for _, u := range res.Unsent {
		fmt.Fprintf(out, "%s %d probes: %s\n", p.warn("not sent:"), u.Probes, u.Why)
	}
	var parts []string
	for _, k := range finding.Order {
		if n := res.Counts.Crossings[k]; n > 0 {
			s := fmt.Sprintf("%d %s", n, k.Name())
			if fs := res.Counts.Findings[k]; fs > 0 {
				s += fmt.Sprintf(" in %d findings", fs)
			}
			parts = append(parts, s)
		}
	}
	line := fmt.Sprintf("%s: %d findings; crossings: %s", run.Target, len(res.Findings), strings.Join(parts, ", "))
	if len(res.Findings) == 0 {
		line = p.good(line)
	}
	fmt.Fprintln(out, line)
	if run.Note != "" {
		fmt.Fprintln(out, p.warn(run.Note))
	}
}
