package probe

import (
	"encoding/json"
	"slices"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/quota"
)

// QuotaCaller is put before a quota where a caller is asked for.
const QuotaCaller = "quota:"

// quotas plans a drill for each declared quota: calls at one of its routes, as
// a caller whom it counts, until one is refused.
func (pl *planner) quotas() {
	for k, q := range pl.d.Quotas {
		if quota.Exempt(q, quota.Caller{Target: pl.t.Name}) {
			pl.leave("quota "+q.Name, "", "the quota drill", "the target is exempt from it")
			continue
		}
		var best *Probe
		var drafts []*Probe
		var why string
		for i := range pl.d.Routes {
			if !slices.Contains(pl.d.QuotasAt[i], k) {
				continue
			}
			p, w := pl.quotaAt(i, q)
			if p == nil {
				why = w
				continue
			}
			if drafts = append(drafts, p); best == nil || pl.calmer(p, best) {
				best = p
			}
		}
		if best == nil {
			if why == "" {
				why = "no route of the inventory is counted by it"
			}
			pl.leave("quota "+q.Name, "", "the quota drill", why)
			continue
		}
		// Another route that it counts for the same caller shows whether they share
		// the count.
		for _, p := range drafts {
			one := p.Identity == best.Identity && (p.Scheme == best.Scheme || q.CountedBy[0].By == "address" ||
				q.CountedBy[0].By == "everyone")
			if p != best && one && (best.Other == nil || pl.calmer(p, best.Other)) {
				best.Other = p
			}
		}
		pl.add(best)
	}
}

// calmer says whether p disturbs less than o: a safe request before an unsafe
// one, fewer other quotas before more.
func (pl *planner) calmer(p, o *Probe) bool {
	if a, b := pl.d.Routes[p.Route].Unsafe(), pl.d.Routes[o.Route].Unsafe(); a != b {
		return b
	}
	return len(pl.d.QuotasAt[p.Route]) < len(pl.d.QuotasAt[o.Route])
}

// quotaAt drafts the drill of a quota at route i. What is sent there need not
// be carried out: that it is not refused for coming too often is enough.
func (pl *planner) quotaAt(i int, q *declaration.Quota) (*Probe, string) {
	rt := pl.d.Routes[i]
	p := &Probe{Kind: QuotaDrill, Route: i, RouteKey: rt.Key(), Method: rt.Method(), Host: rt.Host, Path: rt.Path(),
		State: access.Absent, Params: map[string]string{}, Phase: Drilling, Way: q.Name, WithBody: true,
		Expect: access.Expectation{Outcome: access.Admit}}
	s, req := access.SessionAt(pl.d, i)
	switch {
	case rt.Unsafe() && pl.t.Unsafe != declaration.UnsafeAllowed:
		return nil, "its routes take unsafe methods alone, and the target does not allow them"
	case req != nil && req == s.Login:
		// A login with an unknown name is counted, and locks nobody out.
		c := pl.loginsOf(s)
		if c == "" {
			return nil, "nobody logs in there"
		}
		p.Scheme, p.Donor, p.Empty = s.Name, c, false
		return pl.binds(i, q, nil, p)
	case rt.Unsafe() && len(rt.Send.JSON) == 0 && req == nil:
		return nil, "a call of its routes would be carried out, and nothing of it can be left out"
	case rt.Unsafe():
		p.Empty = true // without what it needs, it is counted and not carried out
	}
	var id *declaration.Identity
	if c := pl.controls[i]; c != nil && c.Identity != "" {
		id = pl.d.IdentityNamed(c.Identity)
		p.Identity, p.Scheme, p.State = c.Identity, c.Scheme, c.State
	}
	if c := pl.controls[i]; c != nil {
		p.Record = c.Record
		for n, v := range c.Params {
			p.Params[n] = v
		}
		if p.Record.Made || p.Record.ID == "" && p.Record.Param != "" {
			p.Params[p.Record.Param], p.Record = "1", RecordUse{}
		}
		if p.Record.Relation == access.Own {
			p.Record.Relation = access.NoRecord
		}
	} else if len(rt.Parameters()) > 0 {
		return nil, "nothing is known that its path could name"
	}
	if s := pl.d.SchemeNamed(p.Scheme); s != nil && (s.Kind == declaration.Signature || s.Kind == declaration.Link) {
		return nil, "its callers sign each request"
	}
	return pl.binds(i, q, id, p)
}

// binds keeps the draft when this quota is the first to refuse there.
func (pl *planner) binds(i int, q *declaration.Quota, id *declaration.Identity, p *Probe) (*Probe, string) {
	q, _ = pl.t.Quota(q)
	mine, ok := q.AmountsFor(pl.d, id)
	if !ok || len(mine) == 0 || q.ExemptIdentity(pl.d, id) {
		return nil, "it does not count who can call there"
	}
	first := quota.Of(q, mine).First()
	if q.Model == declaration.Concurrency {
		first = 4*first + concurrencyCalls
	}
	for _, k := range pl.d.QuotasAt[i] {
		o, _ := pl.t.Quota(pl.d.Quotas[k])
		if o.Name == q.Name || o.Model == declaration.Concurrency || o.ExemptIdentity(pl.d, id) {
			continue
		}
		if a, ok := o.AmountsFor(pl.d, id); ok && quota.Of(o, a).First() <= first {
			return nil, "the quota " + o.Name + " refuses first wherever it counts"
		}
	}
	return p, ""
}

// concurrencyCalls are the calls that a drill of how many run at once makes, beside
// a few times that many.
const concurrencyCalls = 20

// loginsOf is an identity that logs in with a scheme, "" without.
func (pl *planner) loginsOf(s *declaration.Scheme) string {
	for _, id := range pl.d.Identities {
		if id.Credential(s.Name) != nil {
			return id.Name
		}
	}
	return ""
}

// emptied is a JSON body without its members.
func emptied(body []byte) []byte {
	var m map[string]json.RawMessage
	if json.Unmarshal(body, &m) != nil {
		return body
	}
	return []byte("{}")
}
