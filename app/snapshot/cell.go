package snapshot

import (
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/credential"
	"millgate/core/check/crossing"
	"millgate/core/check/quotas"
	"millgate/core/check/sessions"
	"millgate/core/declaration"
	"millgate/core/token"
)

// The first two columns of the Tokens lens.
const (
	WaySound  = "sound"
	WayAbsent = "absent"
)

// wayCaller is put before a way where a caller is asked for.
const WayCaller = check.TokenColumn

// drillCaller is put before an identity where its session drill is asked for.
const DrillCaller = "session:"

// WayOf is the column of the Tokens lens that a probe belongs to, "" without.
func WayOf(p *check.Probe) string {
	switch {
	case p.Is(credential.Family{}):
		return credential.Of(p).Way
	case !p.Is(crossing.Family{}):
		return ""
	case p.IsControl && p.Caller.Identity != "" && p.Caller.State == access.Sound:
		return WaySound
	case p.Caller.Identity == "" && p.Caller.State == access.Absent && p.Of == "":
		return WayAbsent
	case p.Caller.Identity == "" && p.Caller.State == access.Broken:
		return string(token.Altered)
	}
	return ""
}

// Belongs says whether a probe belongs to what a cell is asked for with caller: an
// identity, "" for nobody, or a way of the Tokens lens.
func Belongs(pl *check.Plan, p *check.Probe, caller string) bool {
	if w, ok := strings.CutPrefix(caller, WayCaller); ok {
		return WayOf(p) == w
	}
	if id, ok := strings.CutPrefix(caller, DrillCaller); ok {
		return p.Is(sessions.Family{}) && p.Caller.Identity == id
	}
	return pl.Cell(p).Column() == caller
}

// CountedCaller is put before a kind of counting where a caller is asked for.
const CountedCaller = "counted:"

// KindsOfCaller are the columns of the Quotas lens: what quotas count by.
func KindsOfCaller(d *declaration.Document) (out []string) {
	for _, q := range d.Quotas {
		if k := CountedBy(q); !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}

// DrillsAt are the drills of the quotas that count a route by a kind of caller.
func DrillsAt(d *declaration.Document, pl *check.Plan, route, kind string) (out []*check.Probe) {
	i := d.RouteNamed(route)
	if i < 0 {
		return nil
	}
	for _, p := range pl.Probes {
		if !p.Is(quotas.Family{}) {
			continue
		}
		if k := slices.IndexFunc(d.Quotas, func(q *declaration.Quota) bool { return q.Name == p.Of }); k >= 0 &&
			slices.Contains(d.QuotasAt[i], k) && CountedBy(d.Quotas[k]) == kind {
			out = append(out, p)
		}
	}
	return out
}

func CountedBy(q *declaration.Quota) string {
	keys := make([]string, len(q.CountedBy))
	for k, x := range q.CountedBy {
		keys[k] = x.String()
	}
	return strings.Join(keys, " or ")
}
