package main

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/planning"
	"millgate/core/finding"
)

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
