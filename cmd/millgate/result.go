package main

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/past"
	"millgate/app/planning"
	"millgate/core/check"
	"millgate/core/finding"
	"millgate/core/history"
)

func orEmpty[T any](list []T) []T { return append([]T{}, list...) }

func printPlan(out io.Writer, p paint, d planning.Detail, format string) error {
	if format == "json" {
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		return e.Encode(map[string]any{"plan": d.Summary, "left": d.Left})
	}
	fmt.Fprintf(out, "%s at %s\n", p.bold(d.Target), d.Base)
	fmt.Fprintf(out, "%d probes, %d with unsafe methods (%d of them on throwaway records), about %d requests in all\n",
		d.Summary.Probes, d.Unsafe, d.Made, d.Requests)
	fmt.Fprintf(out, "about %.0f s: %.0f s at %s", d.Seconds, d.PaceSeconds, d.Pace)
	if d.Quota != "" {
		fmt.Fprintf(out, ", %.0f s by quota %s, which counts the sweep", d.QuotaSeconds, d.Quota)
	}
	if d.DrillSeconds > 0 {
		fmt.Fprintf(out, ", %.0f s for the longest drills", d.DrillSeconds)
	}
	fmt.Fprintln(out)
	if d.Inferred > 0 {
		fmt.Fprintf(out, "%d crossings are inferred from callers that the declaration cannot tell apart\n", d.Inferred)
	}
	for _, l := range d.Left {
		fmt.Fprintf(out, "left out: %s: %s\n", coverage.Omitted(l), l.Why)
	}
	return nil
}

func printFindings(out io.Writer, p paint, run *events.Run, res coverage.Result, only bool) {
	var waived []finding.Finding
	for _, f := range res.Findings {
		if f.Waived != nil {
			waived = append(waived, f)
			continue
		}
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
		if len(f.Routes) > 1 {
			fmt.Fprintf(out, "    %d routes: %s\n", len(f.Routes), strings.Join(f.Routes, ", "))
		}
		who := strings.Join(f.Callers, ", ")
		if len(f.Inferred) > 0 {
			who += "; inferred: " + strings.Join(f.Inferred, ", ")
		}
		fmt.Fprintf(out, "    callers: %s\n    %s\n    %s\n\n", who, p.faint(f.Advice), p.faint(f.Docs))
	}
	for _, f := range waived {
		fmt.Fprintf(out, "%s %s %s  %s  %s\n    %s\n", p.faint("waived:"), f.Kind, f.Where(), f.Title, p.faint(f.ID),
			f.Waived)
	}
	printUnseen(out, p, res, only)
	if f := res.Figure; f != nil && !only {
		fmt.Fprintf(out, "checked: %s\n", checkedInWords(f))
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
	if !only {
		fmt.Fprintf(out, "never looked at: %s\n", strings.Join(res.Checked.Outside, ", "))
	}
	line := fmt.Sprintf("%s: %d findings; crossings: %s", run.Target, len(res.Findings), strings.Join(parts, ", "))
	if len(res.Findings) == 0 && len(res.Doubts(run, coverage.DefaultMostUnproven)) == 0 {
		line = p.good(line) // what was hardly checked is not said to be well
	}
	fmt.Fprintln(out, line)
	if run.Note != "" {
		fmt.Fprintln(out, p.warn(run.Note))
	}
}

// checkedInWords says how much was checked, and of which kinds of checks least.
func checkedInWords(f *coverage.Figure) string {
	list := slices.DeleteFunc(slices.Clone(f.Kinds), func(s coverage.Share) bool { return s.Checked() >= 100 })
	slices.SortStableFunc(list, func(a, b coverage.Share) int { return cmp.Compare(a.Checked(), b.Checked()) })
	text := fmt.Sprintf("%s of %d crossings", f.Whole.Percent(), f.Whole.All())
	for i, s := range list[:min(3, len(list))] {
		text += map[bool]string{true: "; least of ", false: ", "}[i == 0] + s.Name + " " + s.Percent()
	}
	return text
}

// summaryOf is the line that a sweep ends with, in a form that does not change: words and numbers to look for.
func summaryOf(run *events.Run, res coverage.Result, c *past.Comparison, code int) string {
	waived := 0
	for _, f := range res.Findings {
		if f.Waived != nil {
			waived++
		}
	}
	line := fmt.Sprintf("summary: target=%s sweep=%d", run.Target, run.ID)
	if run.Shard != "" {
		line += " shard=" + run.Shard
	}
	line += fmt.Sprintf(" findings=%d waived=%d", len(res.Findings), waived)
	if c != nil {
		for _, change := range []history.Change{history.IsNew, history.IsBack, history.IsMended, history.HasMoved,
			history.NotSeen} {
			line += fmt.Sprintf(" %s=%d", strings.ReplaceAll(string(change), " ", "-"), len(c.Of(change)))
		}
	}
	if res.Figure != nil {
		line += " checked=" + res.Figure.Whole.Percent()
	}
	return line + fmt.Sprintf(" exit=%d", code)
}

// mostNamed is how many crossings the terminal names for one reason; JSON has all.
const mostNamed = 8

// printUnseen says what the sweep cannot speak of, each with its reason: what is not fair yet,
// unproven, not sent, left out and left behind.
func printUnseen(out io.Writer, p paint, res coverage.Result, only bool) {
	if only {
		fmt.Fprintf(out, "only controls were sent: %d of %d are admitted\n", res.Checked.Admitted,
			res.Checked.Controls)
	}
	for _, u := range res.NotFair {
		printUnfair(out, p, u)
	}
	several := func(what string, list []coverage.Unseen) {
		for _, u := range list {
			names := make([]string, len(u.Crossings))
			for i, c := range u.Crossings {
				names[i] = c.String()
			}
			printNamed(out, p.warn(what), u.Why, u.Probes, names)
		}
	}
	several("unproven:", res.Unproven)
	several("not sent:", res.Unsent)
	var reasons []string
	left := map[string][]string{}
	routes, crossings := 0, 0
	for _, l := range res.Left {
		if l.Undecided > 0 {
			routes, crossings = routes+1, crossings+l.Undecided
			continue
		}
		if left[l.Why] == nil {
			reasons = append(reasons, l.Why)
		}
		left[l.Why] = append(left[l.Why], coverage.Omitted(l).String())
	}
	for _, why := range reasons {
		printNamed(out, "left out:", why, len(left[why]), left[why])
	}
	if routes > 0 {
		fmt.Fprintf(out, "%s %s (%s): %s\n", p.warn("undecided:"), count(routes, "route"), count(crossings, "crossing"),
			check.NotDecided)
	}
	for _, m := range res.Made {
		fmt.Fprintf(out, "%s %s: %s\n", p.warn("left behind:"), strings.TrimSpace(m.What+" by "+m.Route), m.Why)
	}
}

func printNamed(out io.Writer, what, why string, n int, names []string) {
	fmt.Fprintf(out, "%s %s: %s\n", what, count(n, "probe"), why)
	more := ""
	if len(names) > mostNamed {
		names, more = names[:mostNamed], fmt.Sprintf("; and %d more", len(names)-mostNamed)
	}
	if len(names) > 0 {
		fmt.Fprintf(out, "    %s%s\n", strings.Join(names, "; "), more)
	}
}

func printUnfair(out io.Writer, p paint, u coverage.Unfair) {
	status := "no answer"
	if u.Status > 0 {
		status = fmt.Sprintf("answered %d", u.Status)
	}
	fmt.Fprintf(out, "%s %s: %s; verdicts that wait for it: %d\n", p.warn("not fair yet:"),
		coverage.Crossing{Route: u.Route, Caller: u.Caller}, status, u.Waiting)
	if u.URL != "" {
		fmt.Fprintf(out, "    sent: %s %s\n", u.Method, u.URL)
	}
	if u.Mark != "" {
		fmt.Fprintf(out, "    in the service's log: %s\n", u.Mark)
	}
	for _, line := range []string{u.Body, u.Complaint} {
		if line = strings.Join(strings.Fields(line), " "); line != "" {
			fmt.Fprintf(out, "    %s\n", p.faint(line))
		}
	}
	fmt.Fprintf(out, "    mend the request at %s:%d\n", u.File, u.Line)
}
