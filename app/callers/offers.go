package callers

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/token"
)

// Offer is something that a token says and the declaration does not: one change says it there too.
type Offer struct {
	Says string // what the token says, in words
	Why  string // that it may be declared otherwise
	Change
}

// offers are what a token that a login gave says of its scheme and its holder.
func offers(d *declaration.Document, id *declaration.Identity, s *declaration.Scheme, t *token.Token) (out []Offer) {
	scheme := func(member, text, says string) {
		out = append(out, Offer{Says: says, Change: Change{Do: "set", Kind: SchemeKind, Name: s.Name, To: member,
			Text: text}})
	}
	if s.Kind != declaration.Bearer || t.Kind != token.Signed {
		return nil
	}
	if s.Token != "jwt" {
		scheme("token", "jwt", "it is a JWT")
	}
	if iss, ok := t.Claims.String("iss"); ok && s.Issuer == "" && iss != "" {
		scheme("issuer", declaration.Scalar(iss), "the issuer is "+iss)
	}
	if aud := t.Claims.Get("aud").Strings(false); len(aud) == 1 && s.Audience == "" {
		scheme("audience", declaration.Scalar(aud[0]), "the audience is "+aud[0])
	}
	if alg := t.Algorithm(); s.Algorithms == nil && token.Known(alg) {
		scheme("algorithms", declaration.FlowList([]string{alg}), "it is signed with "+alg)
	}
	begins, begun := t.Date("iat")
	if ends, ok := t.Date("exp"); ok && begun && ends.After(begins) && s.Lifetime["access"].Name == "" {
		d := ends.Sub(begins).Round(time.Second)
		scheme("life", strconv.Itoa(int(d/time.Second)), "it lives "+declaration.ShortDuration(d))
	}
	said := map[string]bool{}
	for _, r := range t.Rights() {
		if said[r.What] {
			continue
		}
		said[r.What] = true
		if s.Claims[r.What] == "" {
			scheme("claims/"+r.What, declaration.Scalar(string(r.At)), "its "+r.What+" stand at "+string(r.At))
		}
		held := id.Scopes
		if r.What == "roles" {
			held = nil
			for n := range d.RolesOf(id) {
				held = append(held, n)
			}
		}
		missing := slices.DeleteFunc(slices.Clone(r.Names), func(n string) bool { return slices.Contains(held, n) })
		if len(missing) == 0 {
			continue
		}
		o := Offer{Says: id.Name + " has " + r.What + " " + strings.Join(missing, ", "),
			Why:    "its token claims them; the service may look at something else",
			Change: Change{Do: "set", Kind: IdentityKind, Name: id.Name, To: r.What}}
		if r.What == "roles" {
			for _, x := range id.Roles {
				o.Roles = append(o.Roles, x.Name)
			}
			o.Roles = append(o.Roles, missing...)
		} else {
			o.Scopes = slices.Concat(id.Scopes, missing)
		}
		out = append(out, o)
	}
	return out
}

// settable are the members that one change sets.
var settable = map[Kind][]string{
	SchemeKind:   {"token", "issuer", "audience", "algorithms", "claims/roles", "claims/scopes", "life"},
	IdentityKind: {"roles", "scopes"},
}

// set writes one member of a scheme or an identity.
func set(text string, d *declaration.Document, ch Change) (out, title string, err error) {
	if !exists(d, ch.Kind, ch.Name) || !slices.Contains(settable[ch.Kind], ch.To) {
		return "", "", fmt.Errorf("%q of %q cannot be set so", ch.To, ch.Name)
	}
	if ch.To == "life" {
		return life(text, d, d.SchemeNamed(ch.Name), ch.Text)
	}
	e := layout.Edit{Section: sections[ch.Kind], Item: ch.Name, Field: strings.Split(ch.To, "/"), Text: ch.Text}
	var edits []layout.Edit
	if ch.Kind == IdentityKind {
		edits = newRoles(d, ch.Roles)
		e.Text = flow(slices.Concat(ch.Roles, ch.Scopes))
	}
	out, err = layout.Apply(text, append(edits, e)...)
	return out, fmt.Sprintf("Set %s of %s", strings.ReplaceAll(ch.To, "/", " "), ch.Name), err
}

// life says how long what a scheme's login gives lives: in a lifetime of its own, or in the one that is declared.
func life(text string, d *declaration.Document, s *declaration.Scheme, seconds string) (out, title string, err error) {
	n, err := strconv.ParseFloat(seconds, 64)
	if most := (10 * 365 * 24 * time.Hour).Seconds(); err != nil || !(n >= 1 && n <= most) {
		return "", "", errors.New("a life is a number of seconds")
	}
	long := declaration.ShortDuration(time.Duration(n) * time.Second)
	title = s.Name + " lives " + long
	if name := s.Lifetime["access"].Name; name != "" {
		out, err = layout.Apply(text, layout.Edit{Section: "lifetimes", Item: name, Field: []string{"max"}, Text: long})
		return out, title, err
	}
	name := s.Name
	for d.LifetimeNamed(name) != nil {
		name += "-life"
	}
	out, err = layout.Apply(text, layout.Edit{Section: "lifetimes", Item: name, Text: "{ max: " + long + " }"},
		layout.Edit{Section: "schemes", Item: s.Name, Field: []string{"lifetime", "access"},
			Text: declaration.Scalar(name)})
	return out, title, err
}
