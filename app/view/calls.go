package view

import (
	"fmt"
	"time"

	"millgate/app/fault"
	"millgate/app/planning"
	"millgate/app/snapshot"
	"millgate/core/check"
	"millgate/core/check/raised"
	"millgate/core/declaration"
)

// mostSteps are looked through for a call of a script that nothing answers.
const mostSteps = 100

// FirstCall is the call of a family's probe that its fact reports first; without a fact
// the one that it begins with. It is nil for the other kinds.
func (vw *View) FirstCall(d *declaration.Document, t *declaration.Target, p *check.Probe,
	f *snapshot.Fact) *check.Call {
	name := ""
	if snapshot.OnRecord(p.Key()) != "" || p.Is(raised.Family{}) {
		name = check.TheRequest
	}
	if f != nil && f.Check != nil && len(f.Check.Reports) > 0 {
		name = f.Check.Reports[0].Name
	}
	script := vw.targets.Families.Named(p.Family).Script(&check.Context{Doc: d, Target: t}, p)
	defer script.Data() // it ends there
	var last []check.Report
	var first *check.Call
	now := time.Duration(0)
	for range mostSteps {
		step := script.Next(now, last)
		if step.Ends() {
			break
		}
		last, now = nil, max(now, step.Wait)
		if step.Look != nil && step.Look.Sender {
			last = []check.Report{{Name: step.Look.Name}}
			continue
		}
		if step.Look != nil {
			return step.Look.Call(&check.Context{Doc: d, Target: t})
		}
		if l := step.Lend; l != nil {
			last = []check.Report{{Name: l.Make.Name, Took: map[string]string{l.Slot: l.Slot}}}
		}
		for i, c := range step.Send {
			if first == nil || c.Name == name {
				first = &step.Send[i]
			}
			if name == "" || c.Name == name {
				return first
			}
			last = append(last, check.Report{Name: c.Name})
		}
	}
	return first
}

// ScriptStep is one report of a family's probe, and what was to become of it.
type ScriptStep struct {
	check.Outcome
	Report check.Report
}

// stepsOf are the reports of a family's fact; nil for the other kinds.
func stepsOf(pl *check.Plan, p *check.Probe, f *snapshot.Fact) []ScriptStep {
	family := pl.Family(p)
	if family == nil || f == nil || f.Check == nil || snapshot.OnRecord(p.Key()) != "" || p.Is(raised.Family{}) {
		return nil // its reports are one request, and what was read beside it
	}
	var known []check.Outcome
	if x, ok := family.(check.Stepwise); ok {
		known = x.Outcomes(pl.Context, p, f.Check)
	}
	out := make([]ScriptStep, len(f.Check.Reports))
	for i, r := range f.Check.Reports {
		out[i] = ScriptStep{check.Outcome{Worked: r.Class(pl.Context.Doc.Answers) == check.Admitted}, r}
		if i < len(known) {
			out[i].Outcome = known[i]
		}
	}
	return out
}

// rowsOf are the rows of a list that are not as declared.
func rowsOf(pl *check.Plan, p *check.Probe, f *snapshot.Fact) []check.Row {
	x, ok := pl.Family(p).(check.Listing)
	if !ok || f == nil || f.Check == nil {
		return nil
	}
	return x.Rows(pl.Context, p, f.Check)
}

// WouldSend is what a target of a text would be sent, "" is the kept one, by what it allows of unsafe methods.
func (vw *View) WouldSend(target, text string) ([]planning.Policy, error) {
	d, err := vw.beside(text)
	if err != nil {
		return nil, err
	}
	t := d.TargetNamed(target)
	if t == nil {
		return nil, fmt.Errorf("%w: there is no target %q", fault.ErrNotFound, target)
	}
	return planning.ByPolicy(d, t, vw.targets.Families), nil
}
