package main

import (
	"context"
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
	"millgate/core/declaration"
	"millgate/core/review"
	"millgate/core/verdict"
)

// paint colours words on a terminal, and leaves them alone in a pipe.
type paint bool

func painter(w io.Writer) paint {
	f, ok := w.(*os.File)
	return paint(ok && term.IsTerminal(int(f.Fd())) && os.Getenv("NO_COLOR") == "")
}

func (p paint) with(code, s string) string {
	if !p {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

func (p paint) bad(s string) string   { return p.with("31", s) }
func (p paint) warn(s string) string  { return p.with("33", s) }
func (p paint) good(s string) string  { return p.with("32", s) }
func (p paint) faint(s string) string { return p.with("2", s) }
func (p paint) bold(s string) string  { return p.with("1", s) }

func sweepCommand() *cobra.Command {
	var target, base, format, failOn, data string
	var planOnly bool
	c := &cobra.Command{
		Use:   "sweep FILE --target NAME",
		Short: "Probe a target and say where it parts from the declaration",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(format); err != nil {
				return err
			}
			level := verdict.Severity(failOn)
			if !slices.Contains(verdict.Severities, level) {
				return exit{exitWrong, fmt.Errorf("--fail-on is low, medium, high or critical, not %q", failOn)}
			}
			if _, _, err := readDeclaration(args[0]); err != nil {
				return err
			}
			a, err := app.Open(data, args[0])
			if err != nil {
				return exit{exitWrong, err}
			}
			err = runSweep(cmd.Context(), cmd.OutOrStdout(), cmd.ErrOrStderr(), a, target, base, format, level, planOnly)
			if cerr := a.Close(); err == nil && cerr != nil {
				err = exit{exitTarget, cerr}
			}
			return err
		},
	}
	c.Flags().StringVar(&target, "target", "", "a target that the declaration names")
	c.Flags().StringVar(&base, "base", "", "address in place of the target's base")
	c.Flags().StringVar(&failOn, "fail-on", "high", "exit with 1 at this severity or above: low, medium, high, critical")
	c.Flags().StringVar(&data, "data", "", "directory to keep the sweep in; it is forgotten when empty")
	c.Flags().BoolVar(&planOnly, "plan", false, "say what would be sent, and send nothing")
	formatFlag(c, &format)
	if err := c.MarkFlagRequired("target"); err != nil {
		panic(err) // the flag is defined above
	}
	return c
}

func runSweep(ctx context.Context, out, errs io.Writer, a *app.App, target, base, format string, level verdict.Severity, planOnly bool) error {
	p := painter(out)
	if d, msgs := a.Document(); declaration.Failed(msgs) {
		printMessages(errs, painter(errs), review.Review(d, msgs, time.Now()))
		return exit{exitWrong, errors.New("the declaration has errors; nothing was sent")}
	}
	plan, err := a.Plan(target)
	if err != nil {
		return exit{exitWrong, err}
	}
	if planOnly {
		return printPlan(out, p, plan, format)
	}
	events, end := a.Events.Listen()
	defer end()
	run, err := a.StartSweep(target, base)
	if err != nil {
		code := exitWrong
		if errors.Is(err, app.ErrUnreachable) {
			code = exitTarget
		}
		return exit{code, err}
	}
	live := painter(errs)
	done := make(chan struct{})
	go func() { a.Wait(run.ID); close(done) }()
	stopped := false
wait:
	for {
		select {
		case e := <-events:
			if live && e.Sweep != nil {
				fmt.Fprintf(errs, "\r\x1b[K%d of %d probes, %.0f per s, %.0f s left", e.Sweep.Done, e.Sweep.Planned, e.Sweep.Pace, e.Sweep.Left)
			}
		case <-ctx.Done():
			if !stopped {
				stopped = true
				if err := a.Stop(run.ID); err != nil && !errors.Is(err, app.ErrNotFound) {
					return exit{exitTarget, err}
				}
			}
			break wait
		case <-done:
			break wait
		}
	}
	if live {
		fmt.Fprint(errs, "\r\x1b[K")
	}
	ended, res, err := a.SweepResult(run.ID)
	if err != nil {
		return exit{exitTarget, err}
	}
	if _, failed := ended.Ended(); failed {
		return exit{exitTarget, errors.New(ended.Note)}
	}
	if format == "json" {
		err = printJSON(out, ended, res)
	} else {
		printFindings(out, p, ended, res)
	}
	if err != nil {
		return exit{exitTarget, err}
	}
	if slices.ContainsFunc(res.Findings, func(f verdict.Finding) bool { return f.Severity.AtLeast(level) }) {
		return exit{exitFindings, nil}
	}
	if stopped {
		return exit{exitTarget, errors.New(ended.Note)}
	}
	if len(res.Unsent) > 0 {
		return exit{exitTarget, errors.New("not everything could be checked; see above")}
	}
	return nil
}

func printJSON(out io.Writer, run *app.Run, res app.Result) error {
	e := json.NewEncoder(out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(map[string]any{"sweep": map[string]any{"target": run.Target, "state": run.State, "startedAt": run.StartedAt, "endedAt": run.EndedAt},
		"findings": append([]verdict.Finding{}, res.Findings...), "counts": res.Counts, "plan": res.Plan, "left": res.Left, "made": res.Made, "unsent": res.Unsent})
}

func printPlan(out io.Writer, p paint, d app.PlanDetail, format string) error {
	if format == "json" {
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		return e.Encode(map[string]any{"plan": d.PlanSummary, "left": d.Left})
	}
	fmt.Fprintf(out, "%s at %s\n", p.bold(d.Target), d.Base)
	fmt.Fprintf(out, "%d probes, %d with unsafe methods (%d of them on throwaway records), about %d requests in all, %.0f s at %s\n", d.PlanSummary.Probes, d.Unsafe, d.Made, d.Requests, d.Seconds, d.Pace)
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

func printFindings(out io.Writer, p paint, run *app.Run, res app.Result) {
	for _, f := range res.Findings {
		sev := p.warn(string(f.Severity))
		if f.Severity.AtLeast(verdict.SevHigh) {
			sev = p.bad(string(f.Severity))
		}
		fmt.Fprintf(out, "%s %s  %s  %s\n", p.bold(string(f.Kind)), p.bold(f.Route), f.Title, p.faint(f.ID))
		fmt.Fprintf(out, "    %s, %s, %s, %s, CWE-%d\n", f.Kind.Name(), sev, f.Confidence, f.OWASP, f.CWE)
		fmt.Fprintf(out, "    %s\n", f.Reason)
		who := strings.Join(f.Callers, ", ")
		if len(f.Inferred) > 0 {
			who += "; inferred: " + strings.Join(f.Inferred, ", ")
		}
		fmt.Fprintf(out, "    callers: %s\n    %s\n\n", who, p.faint(f.Advice))
	}
	for _, m := range res.Made {
		fmt.Fprintf(out, "left behind: %s by %s: %s\n", m.What, m.Route, m.Why)
	}
	for _, u := range res.Unsent {
		fmt.Fprintf(out, "%s %d probes: %s\n", p.warn("not sent:"), u.Probes, u.Why)
	}
	var parts []string
	for _, k := range verdict.Order {
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
