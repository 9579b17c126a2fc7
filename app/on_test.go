package app

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/testkit/memnet"
)

// member is who calls the service of teams.
type member struct{ name, role, team string }

var members = []member{
	{"imre", "observer", "spectra"}, {"tove", "observer", "transients"}, {"sanna", "operator", "spectra"},
	{"quill", "auditor", ""}, {"zeno", "observer", ""},
}

// note is a record of the service of teams.
type note struct {
	id, owner, team string
	published       bool
}

var sheets = []note{{"n-1", "imre", "spectra", false}, {"n-2", "tove", "transients", false},
	{"n-3", "", "spectra", false}, {"n-4", "quill", "", false}, {"n-5", "tove", "transients", true},
	{"n-6", "", "", true}, {"n-7", "", "", false}}

// admits is one alternative of a rule: who, and on which records.
type admits struct{ who, on string }

func (a admits) String() string {
	switch {
	case a.on == "":
		return a.who
	case a == admits{"signed-in", "own"}:
		return "owner"
	}
	return fmt.Sprintf("{ who: %s, on: %s }", a.who, a.on)
}

// fits says whether it is about a caller, "" is nobody.
func (a admits) fits(who string) bool {
	k := slices.IndexFunc(members, func(m member) bool { return m.name == who })
	return a.who == "anyone" || k >= 0 && (a.who == "signed-in" || a.who == members[k].role)
}

// takes says whether it takes in a record for a caller.
func (a admits) takes(who string, n note) bool {
	switch a.on {
	case "own":
		return n.owner == who && who != ""
	case "team":
		return slices.ContainsFunc(members, func(m member) bool {
			return m.name == who && m.team != "" && m.team == n.team
		})
	case "published":
		return n.published
	}
	return true
}

// teamsService keeps a rule for each of its routes: /r0/{id}, /r1/{id} and so on.
type teamsService struct{ rules [][]admits }

func (s teamsService) lets(route int, who string, n note) bool {
	return slices.ContainsFunc(s.rules[route], func(a admits) bool { return a.fits(who) && a.takes(who, n) })
}

func (s teamsService) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	say := func(status int, body any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(body)
	}
	segs := strings.Split(strings.TrimPrefix(r.URL.Path, "/"), "/")
	route := -1
	if len(segs) == 2 && strings.HasPrefix(segs[0], "r") {
		if _, err := fmt.Sscanf(segs[0], "r%d", &route); err != nil || route >= len(s.rules) {
			route = -1
		}
	}
	if route < 0 || fmt.Sprintf("r%d", route) != segs[0] {
		say(404, map[string]any{"error": "nothing is here"})
		return
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET")
		say(405, map[string]any{"error": "it is read alone"})
		return
	}
	who, _ := strings.CutPrefix(r.Header.Get("X-Key"), "key-of-")
	if !slices.ContainsFunc(members, func(m member) bool { return m.name == who }) {
		who = ""
	}
	k := slices.IndexFunc(sheets, func(n note) bool { return n.id == segs[1] })
	open := k >= 0 && s.lets(route, "", sheets[k])
	switch {
	case who == "" && !open:
		say(401, map[string]any{"error": "who are you"})
	case k < 0:
		say(404, map[string]any{"error": "there is no such note"})
	case !s.lets(route, who, sheets[k]):
		say(403, map[string]any{"error": "it is not yours"})
	default:
		say(200, map[string]any{"id": segs[1], "title": "the note called " + segs[1],
			"text": "what stands in " + segs[1] + " of " + sheets[k].owner, "pages": 100 + k})
	}
}

// declaredRules is the declaration of rules.
func declaredRules(base string, rules [][]admits) string {
	var b strings.Builder
	fmt.Fprintf(&b, "millgate: 1.1\ntargets: { t: { base: %q, pace: 1000 per 1s } }\nroles: { observer: , operator: , "+
		"auditor: }\nschemes: { k: { kind: api-key, in: header, name: X-Key } }\nidentities:\n", base)
	for _, m := range members {
		team := ""
		if m.team != "" {
			team = ", in: { team: " + m.team + " }"
		}
		fmt.Fprintf(&b, "  %s: { roles: %s%s, credentials: { k: { key: key-of-%s } } }\n", m.name, m.role, team, m.name)
	}
	b.WriteString("records:\n  note:\n    fills: note_id\n    owned_by: { imre: [n-1], tove: [n-2, n-5], quill: " +
		"[n-4] }\n" +
		"    in: { team: { spectra: [n-1, n-3], transients: [n-2, n-5] } }\n    groups: { published: [n-5, n-6], " +
		"drafts: [n-7] }\n" +
		"routes:\n")
	for i := range rules {
		fmt.Fprintf(&b, "  - \"GET /r%d/{note_id}\"\n", i)
	}
	b.WriteString("access:\n")
	for i, alts := range rules {
		var list []string
		for _, a := range alts {
			list = append(list, a.String())
		}
		fmt.Fprintf(&b, "  - { at: \"GET /r%d/{note_id}\", who: [%s], by: k }\n", i, strings.Join(list, ", "))
	}
	return b.String()
}

// drawnRules are rules of one to three alternatives.
func drawnRules(r *rand.Rand, n int) (out [][]admits) {
	for range n {
		var alts []admits
		for len(alts) < 1+r.IntN(3) {
			a := admits{[]string{"anyone", "signed-in", "observer", "operator", "auditor"}[r.IntN(5)],
				[]string{"own", "team", "published", ""}[r.IntN(4)]}
			if a.who == "anyone" {
				a.on = "published"
			}
			if !slices.Contains(alts, a) {
				alts = append(alts, a)
			}
		}
		out = append(out, alts)
	}
	return out
}

// loosened is a rule with one alternative that looks at less: not at the record, or not at who calls.
func loosened(r *rand.Rand, alts []admits) []admits {
	out := slices.Clone(alts)
	k := r.IntN(len(out))
	if r.IntN(2) == 0 && out[k].on != "" {
		out[k].on = ""
	} else if out[k].who != "anyone" {
		out[k].who = "signed-in"
	}
	return out
}

// What a declaration says about records is what is checked: a service that keeps it is found sound, and of one that
// forgets to look at a record or at a role that route is named, and no other; or what could not be shown.
func TestAdmittedOnSomeRecordsIsChecked(t *testing.T) {
	named, rounds := 0, 0
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 20)) //nolint:gosec // drawn alike each time
		rules := drawnRules(r, 6)
		served, broken := slices.Clone(rules), r.IntN(len(rules))
		if seed%3 != 0 {
			served[broken] = loosened(r, rules[broken])
		}
		var changed []string // who gets in to what, and must not
		for _, n := range sheets {
			for _, who := range []string{"", "imre", "tove", "sanna", "quill", "zeno"} {
				if (teamsService{served}).lets(broken, who, n) != (teamsService{rules}).lets(broken, who, n) {
					changed = append(changed, who+" "+n.id)
				}
			}
		}
		rounds++
		virtually(t, func(t *testing.T, n *memnet.Net) {
			base, end := n.Serve(teamsService{served})
			defer end()
			a := openIn(t, n, declaredRules(base, rules))
			_, res := sweptAt(t, a, "t")
			says := fmt.Sprintf("seed %d: %v served as %v, which lets in %v", seed, rules[broken], served[broken],
				changed)
			for _, f := range res.Findings {
				assert.Equal(t, fmt.Sprintf("GET /r%d/{note_id}", broken), f.Route, "%s: %s", says, f.Reason)
				assert.Contains(t, []string{"U", "P"}, string(f.Kind), "%s: %s", says, f.Reason)
			}
			switch {
			case len(changed) == 0:
				assert.Empty(t, res.Findings, says)
			case len(res.Findings) > 0:
				named++
				// Who fits no alternative lacks the role, and who fits one for other records the ownership.
				assert.LessOrEqual(t, len(res.Findings), 2, says)
			default:
				assert.Fail(t, "it is not found", says)
			}
			time.Sleep(2 * time.Minute) // what is answered without end has ended
		})
	}
	require.Greater(t, named, rounds/4)
}
