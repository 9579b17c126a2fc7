package view

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"millgate/app/fault"
	"millgate/app/snapshot"
	"millgate/core/declaration"
	"millgate/core/quota"
)

// Spans are the intervals for which ceilings are shown.
var Spans = []time.Duration{time.Second, time.Minute, time.Hour, 24 * time.Hour}

// Attempts are numbers of calls that somebody would like to make, with why.
type Attempts struct {
	N   int64
	Why string
}

// QuotaMember is one amount of a quota.
type QuotaMember struct {
	Amount     string
	Limit      quota.Limit
	Ceiling    int64 // of an interval of its own length
	NeverBinds bool
}

// QuotaFor is a quota as it holds for some callers.
type QuotaFor struct {
	Who      string // "" is everybody whom no other is for
	Members  []QuotaMember
	Moment   int64   // calls that get through at once
	Ceilings []int64 // of Spans; quota.Unlimited where nothing limits it
	Exact    bool    // some pattern reaches the ceilings
	Nodes    int64   // what three nodes that count alone let through in the first member's window
	Restart  int64   // what one restart lets through in it
	Wait     time.Duration
	WaitOK   bool // false where it depends on how long calls take
	Attempts []time.Duration
	Possible []bool
}

// QuotaView is a quota with what it comes to.
type QuotaView struct {
	Name      string
	Place     declaration.Place
	CountedBy string
	Model     declaration.Model
	Routes    []string
	PerRoute  bool
	Exempt    []string
	For       []QuotaFor
	Text      map[string]string // members that a form edits, as they stand in a declaration
}

// QuotasView is everything about how often.
type QuotasView struct {
	Quotas   []QuotaView
	Without  []string // routes that no quota counts
	Attempts []Attempts
}

// beside is what a text means that is not kept yet, "" is the kept one.
func (vw *View) beside(text string) (*declaration.Document, error) {
	if text == "" {
		return vw.ws.Present().Doc, nil
	}
	d, msgs := vw.ws.Parse(text)
	if declaration.Failed(msgs) {
		return nil, fmt.Errorf("%w: mend the marked lines first", fault.ErrInvalid)
	}
	return d, nil
}

// textOf are the members of a quota that a form edits.
func textOf(q *declaration.Quota) map[string]string {
	amounts := make([]string, len(q.Allow))
	for i, a := range q.Allow {
		amounts[i] = a.String()
	}
	out := map[string]string{"allow": strings.Join(amounts, ", "), "counted_by": snapshot.CountedBy(q),
		"model": string(q.Model)}
	if q.Model == declaration.FixedWindow {
		out["starts"] = q.Starts
	}
	if q.Burst > 0 {
		out["burst"] = strconv.Itoa(q.Burst)
	}
	if q.Queue > 0 {
		out["queue"] = strconv.Itoa(q.Queue)
	}
	return out
}

// Quotas says what the quotas of a text come to, "" is the kept one.
func (vw *View) Quotas(text string) (QuotasView, error) {
	d, err := vw.beside(text)
	if err != nil {
		return QuotasView{}, err
	}
	out := QuotasView{Attempts: []Attempts{{int64(d.Assume.Guesses), "passwords to guess"},
		{10_000, "codes of four digits"}, {1_000_000, "ids to go through"}}, Without: []string{}}
	routes := make([][]string, len(d.Quotas))
	for i, rt := range d.Routes {
		if len(d.QuotasAt[i]) == 0 {
			out.Without = append(out.Without, rt.Key())
		}
		for _, q := range d.QuotasAt[i] {
			routes[q] = append(routes[q], rt.Key())
		}
	}
	for k, q := range d.Quotas {
		v := QuotaView{Name: q.Name, Place: q.Place, Model: q.Model, Routes: routes[k], PerRoute: q.PerRoute,
			CountedBy: snapshot.CountedBy(q), Text: textOf(q)}
		for _, e := range q.Exempt {
			v.Exempt = append(v.Exempt, e.Name)
		}
		v.For = append(v.For, quotaFor("", quota.Of(q, q.Allow), q.Allow, out.Attempts))
		for _, f := range q.For {
			v.For = append(v.For, quotaFor(f.Name, quota.Of(q, f.Amounts), f.Amounts, out.Attempts))
		}
		out.Quotas = append(out.Quotas, v)
	}
	return out, nil
}

func quotaFor(who string, s quota.Stack, amounts []declaration.Amount, tries []Attempts) QuotaFor {
	f := QuotaFor{Who: who}
	f.Moment, f.Exact = s.Ceiling(2) // two ticks: an edge lies between them
	for k, l := range s {
		if l.Kind == quota.Concurrent {
			f.Moment = min(f.Moment, l.N) // that run at the same time
		}
		m := QuotaMember{Amount: amounts[k].String(), Limit: l, Ceiling: quota.Unlimited, NeverBinds: s.NeverBinds(k)}
		if l.W > 0 {
			m.Ceiling, _ = s.Ceiling(l.W)
		}
		f.Members = append(f.Members, m)
	}
	for _, d := range Spans {
		c, _ := s.Ceiling(quota.Ticks(d))
		f.Ceilings = append(f.Ceilings, c)
	}
	f.Nodes, f.Restart = quota.Unlimited, quota.Unlimited
	if len(s) > 0 && s[0].W > 0 {
		f.Nodes = s.CeilingOf(quota.Nodes{N: 3, Sync: quota.Never}, s[0].W)
		f.Restart = s.Restarted(s[0].W)
	}
	wait, ok := s.LongestWait()
	f.Wait, f.WaitOK = quota.Span(wait), ok
	for _, t := range tries {
		ticks, ok := s.Within(t.N)
		f.Attempts, f.Possible = append(f.Attempts, quota.Span(ticks)), append(f.Possible, ok)
	}
	return f
}
