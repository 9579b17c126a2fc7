package declaration

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"millgate/core/mask"
	"millgate/core/pointer"
	"millgate/core/route"
)

// kindWords are the words that a scheme of each kind has.
var kindWords = map[Kind][]string{
	Bearer: {"token", "issuer", "audience", "algorithms", "typ", "requires", "keys", "signing_key", "tests_only",
		"claims", "lifetime", "login", "account", "refresh", "logout", "introspect", "refuses", "challenge"},
	APIKey: {"in", "name", "refuses", "challenge"},
	Cookie: {"name", "path", "http_only", "secure", "same_site", "lifetime", "login", "account", "logout",
		"refuses", "challenge"},
	Basic: {"refuses", "challenge"},
	Signature: {"algorithm", "header", "encoding", "prefix", "timestamp", "covers", "tolerance", "refuses",
		"challenge"},
	Link: {"expires", "signature", "once", "lifetime", "issue", "expired_link", "refuses", "challenge"},
}

// neededWords are those of them that must be there, with an example.
var neededWords = map[Kind][][2]string{
	APIKey: {{"in", "in: header"}, {"name", "name: X-Api-Key"}},
	Cookie: {{"name", "name: the cookie's name"}},
	Signature: {{"algorithm", "algorithm: hmac-sha256"}, {"header", "header: X-Signature"},
		{"covers", `covers: "{timestamp}.{body}"`}},
	Link: {{"signature", "signature: the query parameter with the signature"}},
}

var schemeWords = []string{"kind", "token", "issuer", "audience", "algorithms", "typ", "requires", "keys",
	"signing_key", "tests_only", "claims", "lifetime", "login", "account", "refresh", "logout", "introspect", "in",
	"name", "path", "http_only", "secure", "same_site", "algorithm", "header", "encoding", "prefix", "timestamp",
	"covers", "tolerance", "expires", "signature", "once", "issue", "expired_link", "refuses", "challenge"}

func (r *reader) scheme(q pair) *Scheme {
	s := &Scheme{Name: q.key, Place: q.kpos, Lifetime: map[string]Ref{}, Signing: Signing{Encoding: "hex"},
		Cookie: CookieAttributes{Path: "/", HTTPOnly: true, Secure: true, SameSite: "lax"}}
	by := map[string]pair{}
	fields := r.entries(q.val, "scheme "+q.key, schemeWords)
	for _, f := range fields {
		by[f.key] = f
		r.schemeField(s, f)
	}
	if s.Kind == "" {
		if _, ok := by["kind"]; !ok {
			r.fail(q.kn, "missing", fmt.Sprintf("scheme %q has no kind", q.key),
				"add  kind: bearer  (or api-key, cookie, basic, signature, link)")
		}
		return s
	}
	for _, f := range fields {
		if f.key != "kind" && !slices.Contains(kindWords[s.Kind], f.key) {
			known := "it has none but kind"
			if len(kindWords[s.Kind]) > 0 {
				known = "its words are " + strings.Join(kindWords[s.Kind], ", ")
			}
			r.fail(f.kn, "unknown-word", fmt.Sprintf("%q has no meaning for a scheme of kind %s", f.key, s.Kind), known)
		}
	}
	for _, w := range neededWords[s.Kind] {
		if _, ok := by[w[0]]; !ok {
			r.fail(q.kn, "missing", fmt.Sprintf("scheme %q of kind %s needs `%s`", q.key, s.Kind, w[0]), "add  "+w[1])
		}
	}
	if _, ok := by["expires"]; s.Kind == Link && !ok && r.version == V1 {
		r.fail(q.kn, "missing", fmt.Sprintf("scheme %q of kind %s needs `expires`", q.key, s.Kind),
			"add  expires: the query parameter with the end")
	}
	r.taken(s)
	return s
}

func (r *reader) schemeField(s *Scheme, f pair) {
	switch f.key {
	case "kind":
		s.Kind = Kind(r.word(f.val, "kind", string(Bearer), string(APIKey), string(Cookie), string(Basic),
			string(Signature), string(Link)))
	case "token":
		s.Token = r.word(f.val, "token", "jwt", "opaque")
	case "issuer":
		s.Issuer, _ = r.str(f.val, "issuer")
	case "audience":
		s.Audience, _ = r.str(f.val, "audience")
	case "algorithms":
		s.Algorithms = r.strings(f.val, "algorithms")
		if s.Algorithms == nil && r.version != V1 && !isNull(r.plain(f.val)) {
			s.Algorithms = []string{} // none; in the first version an empty list said nothing
		}
	case "typ", "requires":
		r.wanted(s, f)
	case "signing_key":
		s.SigningKey = r.value(f)
	case "keys":
		r.keys(s, f)
	case "claims":
		s.Claims = map[string]pointer.JSON{}
		for _, c := range r.entries(f.val, "claims", nil) {
			s.Claims[c.key] = r.pointer(c.val, "claim "+c.key)
		}
	case "in":
		s.In = r.word(f.val, "in", "header", "query", "cookie")
	case "name", "header", "signature":
		s.Field, _ = r.str(f.val, f.key)
	case "lifetime":
		for _, l := range r.entries(f.val, "lifetime", []string{"access", "refresh"}) {
			if n, ok := r.str(l.val, "lifetime "+l.key); ok {
				s.Lifetime[l.key] = Ref{Name: n, Place: r.place(l.val)}
			}
		}
	case "login":
		s.Login, _ = r.request(f.val, "login")
	case "refresh":
		s.Refresh, _ = r.request(f.val, "refresh")
	case "logout":
		r.logout(s, f)
	case "path":
		s.Cookie.Path, _ = r.str(f.val, "path")
	case "http_only":
		s.Cookie.HTTPOnly = r.bool(f.val, "http_only")
	case "secure":
		s.Cookie.Secure = r.bool(f.val, "secure")
	case "same_site":
		s.Cookie.SameSite = r.word(f.val, "same_site", "strict", "lax", "none")
	case "algorithm":
		s.Signing.Algorithm = r.word(f.val, "algorithm", "hmac-sha256", "hmac-sha512")
	case "encoding":
		s.Signing.Encoding = r.word(f.val, "encoding", "hex", "base64")
	case "prefix":
		s.Signing.Prefix, _ = r.str(f.val, "prefix")
	case "timestamp":
		s.Signing.Timestamp, _ = r.str(f.val, "timestamp")
	case "covers":
		s.Signing.Covers, _ = r.str(f.val, "covers")
	case "tolerance":
		s.Signing.Tolerance = r.duration(f.val, "tolerance")
	case "expires":
		s.Expires, _ = r.str(f.val, "expires")
	case "issue":
		r.issue(s, f)
	case "once", "refuses", "challenge":
		r.since11(s, f)
	case "tests_only":
		r.testsOnly(s, f)
	case "account":
		r.account(s, f)
	case "expired_link":
		s.ExpiredLink = r.value(f)
	case "introspect":
		r.introspect(s, f)
	}
}

// IsToken says whether a text is a token (RFC 9110, section 5.6.2): the name of a field, or of an authentication
// scheme.
func IsToken(s string) bool { return fieldName.MatchString(s) }

// since11 reads what a scheme could not say before version 1.1.
func (r *reader) since11(s *Scheme, f pair) {
	switch {
	case !r.since(V11, f.kn, "`"+f.key+"` of a scheme"):
	case f.key == "once":
		s.Once = r.bool(f.val, "once")
	case f.key == "challenge":
		if name, ok := r.str(f.val, "challenge"); ok {
			if s.Challenge = name; !IsToken(name) {
				r.fail(f.val, "type", fmt.Sprintf("%q is not how an authentication scheme is called", name),
					"write for example  challenge: Bearer")
			}
		}
	default:
		s.Refuses = r.turnedStatus(f.val)
	}
}

func (r *reader) introspect(s *Scheme, f pair) {
	var by map[string]pair
	s.Introspect, by = r.request(f.val, "introspect", "as")
	if p, ok := by["as"]; ok {
		if n, ok := r.str(p.val, "as"); ok {
			s.IntrospectAs = Ref{Name: n, Place: r.place(p.val)}
		}
	}
}

// wanted reads what tokens of a scheme must say.
func (r *reader) wanted(s *Scheme, f pair) {
	if !r.since(V11, f.kn, "`"+f.key+"` of a scheme") {
		return
	}
	if f.key == "typ" {
		s.Typ, _ = r.str(f.val, "typ")
		return
	}
	s.Requires = r.strings(f.val, "requires")
}

// testsOnly reads how tokens of developers differ.
func (r *reader) testsOnly(s *Scheme, f pair) {
	if !r.since(V11, f.kn, "`tests_only` of a scheme") {
		return
	}
	t := &TestsOnly{}
	fields := r.entries(f.val, "tests_only", []string{"issuer", "kid", "signing_key"})
	for _, g := range fields {
		switch g.key {
		case "issuer":
			t.Issuer, _ = r.str(g.val, "issuer")
		case "kid":
			t.KeyID, _ = r.str(g.val, "kid")
		case "signing_key":
			t.SigningKey = r.value(g)
		}
	}
	if len(fields) == 0 {
		r.fail(f.kn, "missing", "tests_only does not say how such tokens differ", "write one or more of  issuer, kid, "+
			"signing_key")
	}
	s.TestsOnly = t
}

// keys reads where the verification keys are: one of three ways.
func (r *reader) keys(s *Scheme, f pair) {
	fields := r.entries(f.val, "keys", []string{"jwks", "file", "secret"})
	if len(fields) != 1 {
		r.fail(f.kn, "missing", "keys are in one place", "write one of  { jwks: id:/.well-known/jwks.json },  { "+
			"file: keys.pem }  or  { secret: env:NAME }")
	}
	for _, k := range fields {
		switch k.key {
		case "jwks":
			var ok bool
			if s.Keys.JWKS, ok = r.str(k.val, "jwks"); ok {
				if _, err := route.ParseTemplate("GET " + s.Keys.JWKS); err != nil {
					r.fail(k.val, "selector", "jwks must be a path at a host of the target",
						"write for example id:/.well-known/jwks.json")
				}
			}
		case "file":
			s.Keys.File, _ = r.str(k.val, "file")
		case "secret":
			s.Keys.Secret = r.value(k)
		}
	}
}

// taken checks that the requests of a scheme say where the credential is.
func (r *reader) taken(s *Scheme) {
	need := func(q *Request, what, word, example string) {
		if q != nil && q.Take[word] == "" {
			r.sayAt(q.Place, 1, Error, "missing", what+" does not say where the answer has the "+
				map[string]string{"access": "token", "link": "link"}[word], "add  take: { "+word+": "+example+" }")
		}
	}
	switch s.Kind {
	case Bearer:
		if s.Token == "" {
			s.Token = "opaque"
		}
		need(s.Login, "login", "access", "/access_token")
		need(s.Refresh, "refresh", "access", "/access_token")
	case Link:
		if s.Arrives == nil {
			need(s.Issue, "issue", "link", "/url")
		}
	default:
	}
}

func (r *reader) duration(n ast.Node, what string) time.Duration {
	s, ok := r.str(n, what)
	if !ok {
		return 0
	}
	d, err := ParseDuration(s)
	if err != nil {
		r.fail(n, "type", err.Error(), "")
	}
	if d > years {
		r.say(n, Warning, "years", fmt.Sprintf("%s is %s: more than a year", what, s),
			"write a shorter one, or leave it where it is meant")
	}
	return d
}

func (r *reader) lifetime(q pair) *Lifetime {
	l := &Lifetime{Name: q.key, Place: q.kpos}
	for _, f := range r.entries(q.val, "lifetime "+q.key, []string{"max", "skew", "idle", "ended_within", "rotates",
		"reuse"}) {
		switch f.key {
		case "rotates":
			l.Rotates = r.bool(f.val, "rotates")
		case "reuse":
			l.Reuse = r.word(f.val, "reuse", "ends-grant", "refused", "allowed")
		default:
			d := r.duration(f.val, f.key)
			switch f.key {
			case "max":
				l.Max = d
			case "skew":
				l.Skew = d
			case "idle":
				l.Idle = d
			case "ended_within":
				l.EndedWithin, l.EndedSaid = d, true
			}
		}
	}
	return l
}

var secretWords = []string{"password", "secret", "client_secret", "key", "token", "passphrase", "api_key",
	"signing_key"}

var (
	identityWords = []string{"roles", "scopes", "attributes", "in", "credentials"}
	recordWords   = []string{"fills", "owned_by", "in", "groups", "listed", "make", "remove"}
)

func (r *reader) identity(q pair) *Identity {
	id := &Identity{Name: q.key, Place: q.kpos, Attributes: map[string]any{}}
	if !plainName(q.key) {
		r.fail(q.kn, "type", fmt.Sprintf("%q cannot be an identity's name", q.key), "use letters, digits, - and _")
	}
	for _, f := range r.entries(q.val, "identity "+q.key, identityWords) {
		switch f.key {
		case "roles":
			id.Roles = r.refs(f.val, "roles")
		case "scopes":
			id.Scopes = r.strings(f.val, "scopes")
		case "attributes":
			for _, a := range r.entries(f.val, "attributes", nil) {
				id.Attributes[a.key] = r.scalar(a.val, "attribute "+a.key)
			}
		case "in":
			id.Within = r.within(f, "identity "+q.key, false)
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
		if !(c == '-' || c == '_' || c == '.' || c == '@' || '0' <= c && c <= '9' || 'a' <= c && c <= 'z' ||
			'A' <= c && c <= 'Z') {
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
	case strings.HasPrefix(s, "file:") && r.version != V1:
		v.File = s[5:]
	default:
		v.Literal = s
		if strings.HasPrefix(s, "file:") {
			r.say(p.val, Warning, "version", fmt.Sprintf("%s is read as text: file:PATH came with version %s of the "+
				"language", p.key, V11), fmt.Sprintf("begin %s with  millgate: %s", r.file, V11))
		} else if slices.Contains(secretWords, p.key) {
			r.say(p.val, Warning, "secret-in-clear", fmt.Sprintf("%s stands here in clear", p.key),
				"write  env:NAME  and set NAME where Mill Gate runs, or  kept:NAME")
			if len(s) < mask.Everywhere {
				r.say(p.val, Warning, "short-secret",
					fmt.Sprintf("%s is so short that it is masked only where it is a whole "+
						"value, and not inside other text", p.key), "take a longer one")
			}
		}
		return v
	}
	if !v.Secret() {
		r.fail(p.val, "type", "the name of the secret is missing", "write  env:NAME")
	}
	return v
}

func (r *reader) record(q pair) *Record {
	rec := &Record{Name: q.key, Place: q.kpos, OwnedBy: map[string][]string{}}
	said := len(r.msgs)
	for _, f := range r.entries(q.val, "record "+q.key, recordWords) {
		switch f.key {
		case "fills":
			for _, x := range r.refs(f.val, "fills") {
				if !strings.Contains(x.Name, "/") && x.Name != "" {
					rec.Param = x.Name
					continue
				}
				sel, err := route.Parse(x.Name)
				if err != nil || sel.Tail {
					r.sayAt(x.Place, len(x.Name), Error, "selector", fmt.Sprintf("%q does not select routes to fill",
						x.Name), "write  /v1/things/{id}  or a parameter's name")
					continue
				}
				rec.Fills = append(rec.Fills, sel)
			}
		case "owned_by":
			for _, o := range r.entries(f.val, "owned_by", nil) {
				rec.Owners = append(rec.Owners, Ref{Name: o.key, Place: o.kpos})
				rec.OwnedBy[o.key] = r.strings(o.val, "records of "+o.key)
			}
		case "in":
			rec.Within = r.within(f, "record "+q.key, true)
		case "groups":
			r.groups(f, rec)
		case "listed":
			r.listed(f, rec)
		case "make":
			var by map[string]pair
			rec.Make, by = r.request(f.val, "make", "id")
			if p, ok := by["id"]; ok {
				rec.ID = r.pointer(p.val, "id")
			} else {
				r.fail(f.kn, "missing", "make does not say where the answer has the id", "add  id: /id")
			}
		case "remove":
			rec.Remove, rec.RemoveAs = r.removal(f.val)
		}
	}
	if rec.Param == "" && len(rec.Fills) == 0 && !Failed(r.msgs[said:]) {
		r.fail(q.kn, "missing", fmt.Sprintf("record %q fills nothing", q.key), "add  fills: /v1/things/{id}")
	}
	return rec
}
