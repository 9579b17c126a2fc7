package declaration

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/route"
)

func (r *reader) scheme(q pair) *Scheme {
	s := &Scheme{Name: q.key, Place: q.kpos, Lifetime: map[string]Ref{}}
	by := map[string]pair{}
	for _, f := range r.entries(q.val, "scheme "+q.key, schemeWords) {
		by[f.key] = f
		switch f.key {
		case "kind":
			s.Kind = Kind(r.word(f.val, "kind", string(Bearer), string(APIKey), string(Cookie), string(Basic), string(Signature), string(Link)))
		case "token":
			s.Token = r.word(f.val, "token", "jwt", "opaque")
		case "issuer":
			s.Issuer, _ = r.str(f.val, "issuer")
		case "audience":
			s.Audience, _ = r.str(f.val, "audience")
		case "algorithms":
			s.Algorithms = r.strings(f.val, "algorithms")
		case "claims":
			s.Claims = map[string]string{}
			for _, c := range r.entries(f.val, "claims", nil) {
				s.Claims[c.key] = r.pointer(c.val, "claim "+c.key)
			}
		case "in":
			s.In = r.word(f.val, "in", "header", "query", "cookie")
		case "name", "header":
			s.Field, _ = r.str(f.val, f.key)
		case "lifetime":
			for _, l := range r.entries(f.val, "lifetime", nil) {
				if n, ok := r.str(l.val, "lifetime "+l.key); ok {
					s.Lifetime[l.key] = Ref{Name: n, Place: r.place(l.val)}
				}
			}
		case "login":
			s.Login, _ = r.request(f.val, "login")
		case "refresh":
			s.Refresh, _ = r.request(f.val, "refresh")
		case "logout":
			s.Logout, _ = r.request(f.val, "logout")
		}
	}
	need := func(word, hint string) {
		if _, ok := by[word]; !ok {
			r.fail(q.kn, "missing", fmt.Sprintf("scheme %q of kind %s needs `%s`", q.key, s.Kind, word), hint)
		}
	}
	switch s.Kind {
	case "":
		if _, ok := by["kind"]; !ok {
			r.fail(q.kn, "missing", fmt.Sprintf("scheme %q has no kind", q.key), "add  kind: bearer  (or api-key, cookie, basic, signature, link)")
		}
	case Bearer:
		if s.Token == "" {
			s.Token = "opaque"
		}
		if s.Login != nil && s.Login.Take["access"] == "" {
			r.sayAt(s.Login.Place, 1, Error, "missing", "login does not say where the answer has the token", "add  take: { access: /access_token }")
		}
		if s.Refresh != nil && s.Refresh.Take["access"] == "" {
			r.sayAt(s.Refresh.Place, 1, Error, "missing", "refresh does not say where the answer has the token", "add  take: { access: /access_token }")
		}
	case APIKey:
		need("in", "add  in: header")
		need("name", "add  name: X-Api-Key")
	case Cookie:
		need("name", "add  name: the cookie's name")
	}
	return s
}

func (r *reader) lifetime(q pair) *Lifetime {
	l := &Lifetime{Name: q.key, Place: q.kpos}
	for _, f := range r.entries(q.val, "lifetime "+q.key, []string{"max", "skew", "idle", "ended_within", "rotates", "reuse"}) {
		switch f.key {
		case "rotates":
			l.Rotates = r.bool(f.val, "rotates")
		case "reuse":
			l.Reuse = r.word(f.val, "reuse", "ends-grant", "refused", "allowed")
		default:
			s, ok := r.str(f.val, f.key)
			if !ok {
				continue
			}
			d, err := ParseDuration(s)
			if err != nil {
				r.fail(f.val, "type", err.Error(), "")
			}
			switch f.key {
			case "max":
				l.Max = d
			case "skew":
				l.Skew = d
			case "idle":
				l.Idle = d
			case "ended_within":
				l.EndedWithin = d
			}
		}
	}
	return l
}

var secretWords = []string{"password", "secret", "client_secret", "key", "token", "passphrase", "api_key"}

func (r *reader) identity(q pair) *Identity {
	id := &Identity{Name: q.key, Place: q.kpos, Attributes: map[string]any{}}
	if !plainName(q.key) {
		r.fail(q.kn, "type", fmt.Sprintf("%q cannot be an identity's name", q.key), "use letters, digits, - and _")
	}
	for _, f := range r.entries(q.val, "identity "+q.key, []string{"roles", "scopes", "attributes", "credentials"}) {
		switch f.key {
		case "roles":
			id.Roles = r.refs(f.val, "roles")
		case "scopes":
			id.Scopes = r.strings(f.val, "scopes")
		case "attributes":
			for _, a := range r.entries(f.val, "attributes", nil) {
				id.Attributes[a.key] = r.scalar(a.val, "attribute "+a.key)
			}
		case "credentials":
			for _, c := range r.entries(f.val, "credentials", nil) {
				cr := Credential{Scheme: Ref{Name: c.key, Place: c.kpos}, Fill: map[string]Value{}}
				for _, v := range r.entries(c.val, "credential "+c.key, nil) {
					cr.Fill[v.key] = r.value(v)
				}
				id.Credentials = append(id.Credentials, cr)
			}
		}
	}
	return id
}

func plainName(s string) bool {
	for _, c := range s {
		if !(c == '-' || c == '_' || c == '.' || c == '@' || '0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z') {
			return false
		}
	}
	return s != "" && s != "nobody"
}

func (r *reader) value(p pair) Value {
	v := Value{Place: r.place(p.val)}
	s, ok := r.str(p.val, p.key)
	if !ok {
		return v
	}
	switch {
	case strings.HasPrefix(s, "env:"):
		v.Env = s[4:]
	case strings.HasPrefix(s, "kept:"):
		v.Kept = s[5:]
	default:
		v.Literal = s
		if slices.Contains(secretWords, p.key) {
			r.say(p.val, Warning, "secret-in-clear", fmt.Sprintf("%s stands here in clear", p.key), "write  env:NAME  and set NAME where Mill Gate runs, or  kept:NAME")
		}
		return v
	}
	if v.Env == "" && v.Kept == "" {
		r.fail(p.val, "type", "the name of the secret is missing", "write  env:NAME")
	}
	return v
}

func (r *reader) record(q pair) *Record {
	rec := &Record{Name: q.key, Place: q.kpos, OwnedBy: map[string][]string{}}
	for _, f := range r.entries(q.val, "record "+q.key, []string{"fills", "owned_by", "make", "remove"}) {
		switch f.key {
		case "fills":
			for _, x := range r.refs(f.val, "fills") {
				if !strings.Contains(x.Name, "/") {
					rec.Param = x.Name
					continue
				}
				sel, err := route.Parse(x.Name)
				if err != nil || sel.Tail {
					r.sayAt(x.Place, len(x.Name), Error, "selector", fmt.Sprintf("%q does not select routes to fill", x.Name), "write  /v1/things/{id}  or a parameter's name")
					continue
				}
				rec.Fills = append(rec.Fills, sel)
			}
		case "owned_by":
			for _, o := range r.entries(f.val, "owned_by", nil) {
				rec.Owners = append(rec.Owners, Ref{Name: o.key, Place: o.kpos})
				rec.OwnedBy[o.key] = r.strings(o.val, "records of "+o.key)
			}
		case "make":
			var by map[string]pair
			rec.Make, by = r.request(f.val, "make", "id")
			if p, ok := by["id"]; ok {
				rec.ID = r.pointer(p.val, "id")
			} else {
				r.fail(f.kn, "missing", "make does not say where the answer has the id", "add  id: /id")
			}
		case "remove":
			rec.Remove, _ = r.request(f.val, "remove")
		}
	}
	if rec.Param == "" && len(rec.Fills) == 0 {
		r.fail(q.kn, "missing", fmt.Sprintf("record %q fills nothing", q.key), "add  fills: /v1/things/{id}")
	}
	return rec
}
