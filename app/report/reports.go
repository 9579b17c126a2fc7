package report

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"millgate/app/fault"
	"millgate/app/past"
	"millgate/app/snapshot"
	"millgate/app/workspace"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/format/curl"
)

// Reports makes reports of a workspace.
type Reports struct {
	ws      *workspace.Workspace
	targets *snapshot.Targets
	past    *past.Past
	sweeps  past.Sweeps
	calls   Calls
}

// Calls says what a probe sends first.
type Calls interface {
	FirstCall(d *declaration.Document, t *declaration.Target, p *check.Probe, f *snapshot.Fact) *check.Call
}

func New(ws *workspace.Workspace, targets *snapshot.Targets, past *past.Past, sweeps past.Sweeps,
	calls Calls) *Reports {
	return &Reports{ws, targets, past, sweeps, calls}
}

// Options are how a report is made.
type Options struct {
	Values bool                       // of answers are shown
	Most   float64                    // share of crossings that may be unproven, in percent
	Stops  func(finding.Finding) bool // whether a pipeline stops for it; nil for none
	Brief  bool                       // without exchanges
	Since  *past.Comparison           // that the states of findings are of; nil is the store's history
	AtMost int                        // crossings of a finding that are shown with exchanges; 0 is a few
}

// Of makes a report of a sweep that has ended, by the declaration that it was begun with.
func (rs *Reports) Of(ctx context.Context, id uint, o Options) (*Report, error) {
	run, res, err := rs.sweeps.Result(ctx, id)
	switch {
	case err != nil:
		return nil, err
	case run.EndedAt == nil:
		return nil, fmt.Errorf("%w: sweep %d has not ended", fault.ErrInput, id)
	}
	by := rs.ws.Present()
	if run.Revision != by.Revision.ID {
		if by, err = rs.ws.AtRevision(ctx, run.Revision); err != nil {
			return nil, err
		}
	}
	if by.Failed() {
		return nil, fmt.Errorf("%w: revision %d can no longer be read", fault.ErrInvalid, run.Revision)
	}
	s := Source{Doc: by.Doc, Text: by.Text, Run: run, Result: res, Most: o.Most, Values: o.Values,
		AtMost: o.AtMost, Stops: o.Stops}
	t := s.Doc.TargetNamed(run.Target)
	if t == nil {
		return nil, fmt.Errorf("%w: revision %d has no target %q", fault.ErrInput, run.Revision, run.Target)
	}
	s.Base, s.Plan = t.Base, check.NewPlan(s.Doc, t, rs.targets.Families)
	facts, _, err := rs.targets.Journal(ctx, id)
	if err != nil {
		return nil, err
	}
	known := snapshot.NewKnown(facts)
	snapshot.NewJudge(s.Plan, known.Of).All() // gaps led to more probes
	if !o.Brief {
		s.Facts = known.Of
	}
	if o.Since != nil {
		s.Became = o.Since.Became()
	} else if s.Became, err = rs.past.Became(ctx, run.Target, id); err != nil {
		return nil, err
	}
	return From(s), nil
}

// Form is one in which a finding is copied.
type Form string

// The forms.
const (
	AsMarkdown Form = "markdown"
	AsCurl     Form = "curl"
	AsHAR      Form = "har"
	AsWitness  Form = "witness"
)

// Copied is a finding to hand on, and what to know of it.
type Copied struct{ Text, Note string }

// Copy is a finding of a target, as it is now, in a form.
func (rs *Reports) Copy(ctx context.Context, target, id string, form Form) (Copied, error) {
	k, err := rs.past.Of(ctx, target)
	if err != nil {
		return Copied{}, err
	}
	l, err := k.Find(id)
	if err != nil {
		return Copied{}, err
	}
	now := rs.ws.Present()
	if k.Now == nil {
		return Copied{}, fmt.Errorf("%w: mend it in the Declaration place first", fault.ErrInvalid)
	}
	s := Source{Doc: now.Doc, Plan: k.Now.Plan(), Facts: k.Now.Facts.Of}
	it := s.item(l.Finding)
	it.State = l.Now()
	switch form {
	case AsMarkdown:
		return Copied{it.Markdown(), "Copied as Markdown. Secrets are masked, values of answers are shown as their " +
				"type."},
			nil
	case AsHAR:
		var b strings.Builder
		r := Report{Findings: []Item{it}}
		err := r.HAR(&b)
		return Copied{b.String(), "Copied as HAR. Secrets are masked, values of answers are shown as their type."}, err
	case AsCurl, AsWitness:
	}
	t := now.Doc.TargetNamed(k.Target)
	if len(it.Evidence) == 0 || t == nil {
		return Copied{}, fmt.Errorf("%w: nothing that was sent for it is at hand; probe it again first", fault.ErrInput)
	}
	step := func(id string) (Step, *snapshot.Fact) {
		p := s.Plan.Find(id)
		f := s.Facts(id)
		if p == nil || f == nil {
			return Step{}, nil
		}
		return Step{s.Plan.Who(p), curl.Command(now.Doc, t, p, cmp.Or(f.Record, p.Record.Value),
			rs.calls.FirstCall(now.Doc, t, p, f))}, f
	}
	p := s.Plan.Find(it.Evidence[0].Probe)
	probe, f := step(p.Key())
	if form == AsCurl {
		return Copied{probe.Command, "Copied. Secrets stand in it as environment variables."}, nil
	}
	control, _ := step(p.Control)
	script, ok := it.Witness(Asked{control, probe, f.Exchange.Status, f.Exchange.At, check.ExpectAt(s.Plan.Context, p)})
	if !ok || f.Check != nil && len(f.Check.Reports) > 1 && !oneRequest(p) {
		return Copied{}, fmt.Errorf("%w: one status does not tell whether this finding is still there; send its "+
			"probes "+
			"again instead", fault.ErrInput)
	}
	return Copied{script, "Copied. It takes secrets from the environment, and ends with 1 while the gap is there."}, nil
}

// oneRequest says whether a probe is one request, with others beside it that only help.
func oneRequest(p *check.Probe) bool { return snapshot.OnRecord(p.Key()) != "" }
