package token

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"millgate/core/declaration"
)

// Fact answers one question about a token in one line.
type Fact struct {
	Of   Question `json:"of"`
	Text string   `json:"text"`
	Bad  bool     `json:"bad"` // somebody should look at it
}

// Question is what somebody asks who finds a token.
type Question string

// Questions, in their order.
const (
	OfIssuer   Question = "issued by"
	OfAudience Question = "for"
	OfHolder   Question = "held by"
	OfReach    Question = "opens"
	OfEnd      Question = "until"
	OfLogout   Question = "after a logout"
	OfThief    Question = "a thief"
)

// mostGroups is how many groups of routes are named.
const mostGroups = 4

// Glance answers who issued a token, for whom, what it opens, until when, what becomes of it after a
// logout, and what a thief could do with it. The outcome and the reach are what was said of it.
func Glance(t *Token, c Context, outcome Outcome, reach []Opens) []Fact {
	if t.Kind != Signed && !t.Introspected {
		return []Fact{}
	}
	g := glance{t: t, c: c, outcome: outcome}
	g.opens(reach)
	return []Fact{g.issuer(), g.audience(), g.holder(), g.reach(), g.end(), g.logout(), g.thief()}
}

type glance struct {
	t                      *Token
	c                      Context
	outcome                Outcome
	groups                 []string // with how many routes of each
	reads, changes, beyond int
}

func (g *glance) opens(reach []Opens) {
	count := map[string]int{}
	for _, o := range reach {
		if !o.Admitted || o.Public {
			continue
		}
		i := g.c.Doc.RouteNamed(o.Route)
		if i < 0 {
			continue
		}
		rt := g.c.Doc.Routes[i]
		if rt.Effect == declaration.Read {
			g.reads++
		} else {
			g.changes++
		}
		if g.c.Identity != nil && !o.Granted {
			g.beyond++
		}
		count[cmp.Or(rt.Group, rt.Prefix())]++
	}
	var names []string
	for n := range count {
		names = append(names, n)
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(count[b]-count[a], strings.Compare(a, b)) })
	for i, n := range names {
		if i == mostGroups {
			g.groups = append(g.groups, fmt.Sprintf("%d more groups", len(names)-i))
			break
		}
		g.groups = append(g.groups, fmt.Sprintf("%s %d", n, count[n]))
	}
}

func (g *glance) issuer() Fact {
	iss, ok := g.t.Claims.String("iss")
	if !ok {
		return Fact{OfIssuer, "it does not say", true}
	}
	for _, name := range []string{"client_id", "azp"} {
		if client, ok := g.t.Claims.String(name); ok {
			return Fact{OfIssuer, iss + ", to the client " + client, false}
		}
	}
	return Fact{OfIssuer, iss, false}
}

func (g *glance) audience() Fact {
	all := g.t.Claims.Get("aud").Strings(false)
	if len(all) == 0 {
		return Fact{OfAudience, "any service that trusts its issuer", true}
	}
	return Fact{OfAudience, strings.Join(all, ", "), len(all) > 1}
}

func (g *glance) holder() Fact {
	who := Subject(g.t)
	switch id := g.c.Identity; {
	case id != nil && who != "" && who != id.Name:
		who = id.Name + " (" + who + ")"
	case id != nil:
		who = id.Name
	case who == "":
		return Fact{OfHolder, "nobody is named", true}
	default:
		who += ", whom the declaration does not know"
	}
	if s := g.c.Scheme; s != nil {
		for _, what := range []string{"roles", "scopes"} {
			if at := s.Claims[what]; at != "" {
				if list := g.t.at(at).Strings(true); len(list) > 0 {
					who += "; " + what + " " + strings.Join(list, ", ")
				}
			}
		}
	}
	return Fact{OfHolder, who, false}
}

func (g *glance) reach() Fact {
	switch {
	case g.c.Scheme == nil:
		return Fact{OfReach, "not known: it belongs to no declared scheme", true}
	case g.reads+g.changes == 0:
		return Fact{OfReach, "nothing that needs a token", false}
	}
	text := fmt.Sprintf("%s, %d of them change something: %s", many(g.reads+g.changes, "route"), g.changes,
		strings.Join(g.groups, ", "))
	if g.beyond > 0 {
		text += fmt.Sprintf("; %d are not granted to its holder", g.beyond)
	}
	return Fact{OfReach, text, g.beyond > 0}
}

func many(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func (g *glance) end() Fact {
	exp, ok := g.t.Date("exp")
	switch left := exp.Sub(g.c.Now); {
	case !ok:
		return Fact{OfEnd, "for ever, as far as it says", true}
	case left <= 0:
		return Fact{OfEnd, fmt.Sprintf("it ended %s ago", Say(-left)), false}
	default:
		return Fact{OfEnd, fmt.Sprintf("%s, in %s", exp.UTC().Format("2006-01-02 15:04:05 UTC"), Say(left)),
			left > Months}
	}
}

// afterwards is whether a token works on after a logout, for how long by the declaration, and
// whether that is said.
func (g *glance) afterwards() (within time.Duration, said bool) {
	l := (&judge{t: g.t, c: g.c}).lifetime()
	if l == nil || g.c.Scheme.Logout == nil || !l.EndedSaid {
		return 0, false
	}
	return l.EndedWithin, true
}

func (g *glance) logout() Fact {
	within, said := g.afterwards()
	switch {
	case g.c.Scheme == nil:
		return Fact{OfLogout, "not known", false}
	case g.c.Scheme.Logout == nil:
		return Fact{OfLogout, "it works on to its end: the scheme declares no logout", true}
	case !said:
		return Fact{OfLogout, "it may work on to its end: the declaration does not say when a logout ends it", true}
	case within == 0:
		return Fact{OfLogout, "refused at once, as declared", false}
	}
	return Fact{OfLogout, fmt.Sprintf("refused after %s, as declared", Say(within)), false}
}

func (g *glance) thief() Fact {
	if g.outcome == Refuses {
		return Fact{OfThief, "can do nothing with it where everything is checked", false}
	}
	if g.reads+g.changes == 0 {
		return Fact{OfThief, "gains nothing by it that is declared", false}
	}
	text := fmt.Sprintf("reads through %s and changes something through %d", many(g.reads, "route"), g.changes)
	if exp, ok := g.t.Date("exp"); ok {
		text += ", for " + Say(exp.Sub(g.c.Now))
	} else {
		text += ", for ever"
	}
	if within, said := g.afterwards(); !said {
		text += ", whatever its holder does"
	} else if within == 0 {
		text += ", until its holder logs out"
	} else {
		text += fmt.Sprintf(", until %s after its holder logs out", Say(within))
	}
	if g.t.Claims.Get("cnf") != nil {
		text += "; a service that checks cnf asks for the holder's key too"
	}
	return Fact{OfThief, text, true}
}
