package quotas

import (
	"fmt"
	"net/netip"
	"net/url"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/quota"
)

// Exempt is what somebody met whom the quota is not to count.
type Exempt struct {
	Who     string `json:"who"`
	Sent    int    `json:"sent"`
	Status  int    `json:"status"` // of the last
	Refused bool   `json:"refused,omitempty"`
}

// exempt is an identity that a quota does not count, which its drill's route admits.
func (x planning) exempt(q *declaration.Quota, d *Detail) string {
	if d.Login != "" {
		return ""
	}
	return x.admitted(d.Route, d.Record, func(id *declaration.Identity) bool {
		return q.ExemptIdentity(x.c.Doc, id) && len(id.Credentials) > 0 &&
			(d.Caller.Scheme == "" || id.Credential(d.Caller.Scheme) != nil)
	})
}

// asExempt is how many calls somebody makes who is exempt.
func (x *drilling) asExempt() int {
	switch {
	case x.at.Exempt == "":
		return 0
	case x.at.By == "identity" || x.at.By == "key" || x.at.By == "role":
		return int(min(quota.Of(x.q, x.q.Allow).First()+1, mostCalls))
	}
	return 1
}

// exempted sends, while calls are refused, calls of somebody whom the quota does not count: where others
// are counted by themselves as many as would fill a count.
func (x *drilling) exempted() {
	e := Exempt{Who: x.at.Exempt}
	for range x.asExempt() {
		r := x.send(x.as(x.at.Exempt))[0]
		if r.Fate != check.Answered {
			break
		}
		e.Sent, e.Status = e.Sent+1, r.Exchange.Status
		if e.Refused = x.refused(r); e.Refused {
			break
		}
	}
	if e.Sent > 0 {
		x.m.Exempt = &e
	}
}

// exempted is the gap of a quota that counts whom it is not to count.
func (j *judging) exempted() {
	if e := j.m.Exempt; e != nil && e.Refused {
		j.gap(exempt, j.speaks(), "%s is exempt from %s, and call %d was refused (%d) while others were.", e.Who,
			j.Quota.Name, e.Sent, e.Status)
	}
}

// uncounted says that somebody exempt was not counted, where that was tried; and what an exempt
// address may hide.
func (j *judging) uncounted() string {
	if e := j.m.Exempt; e != nil && !e.Refused {
		return fmt.Sprintf(" %s is exempt: %d of its calls were let through meanwhile.", e.Who, e.Sent)
	}
	return ""
}

// exemptAddress is the first range of addresses that a quota does not count; "" without one. Whether
// calls of a drill come from it is not known: between here and the service addresses are changed.
func exemptAddress(q *declaration.Quota) string {
	for _, e := range q.Exempt {
		if e.Kind == "address" {
			return e.Name
		}
	}
	return ""
}

// mayBeExempt is the range of addresses that the quota does not count and calls may have come from; ""
// without. To the machine itself they come from itself.
func (j *judging) mayBeExempt() string {
	u, err := url.Parse(j.base)
	if err != nil {
		return exemptAddress(j.Quota)
	}
	host := u.Hostname()
	if a, err := netip.ParseAddr(host); host == "localhost" || err == nil && a.IsLoopback() {
		if !quota.Exempt(j.Quota, quota.Caller{Address: local}) {
			return ""
		}
	}
	return exemptAddress(j.Quota)
}

// within is an address of a range; "" where it is none.
func within(text string) string {
	if p, err := netip.ParsePrefix(text); err == nil {
		if a := p.Masked().Addr().Next(); p.Contains(a) {
			return a.String()
		}
		return p.Addr().String()
	}
	return text
}

var exemptRow = limited(exempt, finding.OverRestrictive, "Who is exempt is counted",
	"Work that must not be slowed down is refused with everybody else's.",
	"Leave out of the count whom the declaration exempts; or declare that it counts.")
