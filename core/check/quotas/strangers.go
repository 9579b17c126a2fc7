package quotas

import (
	"fmt"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/quota"
	"millgate/core/token"
)

// Strangers is what a credential that does not hold met, while calls of the one whom it names
// were refused; and where it was refused like those, whether such calls fill somebody's count.
type Strangers struct {
	Status int `json:"status"` // of the first
	// Then such calls of another identity were sent, Sent of them, which had been admitted before.
	Whose string `json:"whose,omitempty"`
	Sent  int    `json:"sent,omitempty"`
	// After is what that identity was answered with its own credential, and Bare what nobody was:
	// refused as well, it is the address that is counted.
	After int `json:"after,omitempty"`
	Bare  int `json:"bare,omitempty"`
	// Third is what such a token of a third identity was answered then, 0 without one: refused as well,
	// it is whoever shows a token from here that is counted.
	Third int `json:"third,omitempty"`
}

// strangers sends, while calls are refused, a token of the caller whose signature does not hold: a
// service that counts before it looks at that counts for whomever the token names.
func (x *drilling) strangers() {
	s := x.c.Doc.SchemeNamed(x.p.Caller.Scheme)
	if s == nil || s.Kind != declaration.Bearer || s.Token != "jwt" || x.at.By != "identity" {
		return
	}
	r := x.send(x.altered(x.p.Caller.Identity))[0]
	if r.Fate != check.Answered {
		return
	}
	x.m.Strangers = &Strangers{Status: r.Exchange.Status}
	if x.refused(r) && x.m.Other != "" && x.m.OtherStatus == x.m.Passes {
		x.fill(x.m.Strangers, x.m.Other)
	}
}

// altered is the drill's call with a token of somebody whose signature was changed.
func (x *drilling) altered(identity string) check.Call {
	c := x.what
	who := x.p.Caller
	who.Identity, who.State = identity, access.Broken
	c.As = []check.Present{{Caller: who, Way: string(token.Altered)}}
	return c
}

// fill sends as many such calls as fill the count of an identity, and then one of its own.
func (x *drilling) fill(s *Strangers, whose string) {
	s.Whose = whose
	for range min(quota.StackFor(x.c.Doc, x.q, whose).First()+1, mostCalls) {
		r := x.send(x.altered(whose))[0]
		if r.Fate != check.Answered || r.Exchange.Status == x.m.Passes {
			return // who is let in with such a token is no stranger
		}
		if s.Sent++; x.refused(r) {
			break // it is full
		}
	}
	if r := x.send(x.as(whose))[0]; r.Fate == check.Answered {
		s.After = r.Exchange.Status
	}
	bare := x.what
	bare.As = nil
	if r := x.send(bare)[0]; r.Fate == check.Answered {
		s.Bare = r.Exchange.Status
	}
	for id := range x.c.Doc.Ranked() {
		if id.Name == x.p.Caller.Identity || id.Name == whose || id.Credential(x.p.Caller.Scheme) == nil {
			continue
		}
		if r := x.send(x.altered(id.Name))[0]; r.Fate == check.Answered {
			s.Third = r.Exchange.Status
		}
		return
	}
}

// strangers is the gap of a quota that those can fill who show no credential that holds.
func (j *judging) strangers() {
	s := j.m.Strangers
	if s == nil || s.Sent == 0 || s.After != j.m.Status || s.Bare == j.m.Status || s.Bare == 0 ||
		s.Third == j.m.Status {
		return
	}
	proof := check.Shown(j.seen)
	if s.Third == 0 { // it may be whoever shows a token from here that is counted
		proof = j.speaks()
	}
	j.gap(strangers, proof, "%d calls with tokens of %s whose signature does not hold were sent. Then "+
		"%s was refused (%d) with its own token, having been admitted just before; a call without any was answered %d "+
		"meanwhile, so that it is not the address that is counted.", s.Sent, s.Whose, s.Whose, s.After, s.Bare)
}

// Order tells whether a full quota refuses before the credential is looked at.
func (Family) Order(c *check.Context, p *check.Probe, f *check.Fact, _ *check.Evidence) []check.Sequence {
	m, ok := f.Data.(*Measured)
	if !ok || m.Status == 0 || m.Full {
		return nil
	}
	without, status := "without a credential", m.Bare.Status
	if m.Strangers != nil {
		without, status = "with a token whose signature does not hold", m.Strangers.Status
	}
	s := check.Sequence{First: check.OfCredential, Then: check.OfQuota,
		Says: fmt.Sprintf("%s while %s was full: %d", without, p.Of, status)}
	switch status {
	case 401, 403:
	case m.Status:
		s.First, s.Then = s.Then, s.First
	default:
		return nil
	}
	return []check.Sequence{s}
}

var strangersRow = &finding.Row{Cause: strangers, Kind: finding.OverRestrictive,
	Title: "Strangers can fill the quota of somebody",
	Means: "The count is kept for whomever a token names, before its signature is looked at: anybody who knows a name " +
		"can keep its owner out.",
	Advice: "Count for an identity behind the check of its credential; in front of that count the address.",
	OWASP:  finding.API4, CWE: 696, Severity: finding.Medium, // incorrect behavior order
	Shown: "Calls with tokens that do not hold were sent until they were refused; the one whom they name was refused " +
		"then, and nobody was not."}
