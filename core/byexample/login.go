package byexample

import (
	"bytes"
	"encoding/json"
	"net/url"
	"slices"
	"strings"

	"millgate/core/declaration"
	"millgate/core/madeup"
	"millgate/core/personal"
	"millgate/core/pointer"
)

// login is a request that logs in, as a scheme sends it.
type login struct {
	name    string            // that it logs in with
	values  map[string]string // by placeholder
	secrets []string          // placeholders that are secrets
	form    bool
	text    string // the body with its placeholders, as a declaration has it
	answer  any    // as encoding/json reads it; nil without
	cookies map[string]string
	used    []*call // that prove themselves with what it gave
}

// Words of members that say who somebody is, and of those that only the same person knows.
var (
	whoWords = []string{"username", "user", "email", "mail", "login", "account", "identifier", "phone", "clientid",
		"name"}
	passWords = []string{"password", "passwd", "passphrase", "passcode", "pwd", "pass", "pin"}
	logsIn    = []string{"login", "signin", "logon", "session", "sessions", "token", "tokens", "auth", "authenticate",
		"authentication", "oauth", "oauth2", "connect", "sso"}
	makesOne = []string{"register", "registration", "signup", "users", "accounts", "reset", "change", "forgot",
		"invite"}
)

func hasWord(name string, list []string) bool {
	return slices.ContainsFunc(personal.Words(name), func(w string) bool { return slices.Contains(list, w) })
}

// loginOf says how a request logs in, nil where it does not: it sends what only its caller knows, and its path or its
// answer says what for.
func loginOf(q *Request) *login {
	if q.Method == "GET" || q.Method == "HEAD" || len(q.Body) == 0 {
		return nil
	}
	l := &login{values: map[string]string{}, cookies: map[string]string{}}
	knows, password, again := false, false, false
	take := func(name, value string) (string, bool) {
		words := personal.Words(name)
		is := strings.Join(words, "")
		switch {
		case value == "" || isGuard(name):
			return value, false
		case hasWord(name, passWords) || is == "clientsecret" || is == "apikey" || is == "apisecret":
			knows, password = true, password || hasWord(name, passWords)
			l.secrets = append(l.secrets, holder(name))
		case slices.Contains(whoWords, is), personal.Mail(value),
			len(words) > 1 && slices.Contains(whoWords, words[len(words)-1]):
			if l.name == "" {
				l.name = value
			}
		case madeup.SecretName(name) && is != "granttype":
			again = again || is == "refreshtoken"
			l.secrets = append(l.secrets, holder(name))
		default:
			return value, false
		}
		l.values[holder(name)] = value
		return "{" + holder(name) + "}", true
	}
	switch {
	case strings.Contains(q.Headers.Get("Content-Type"), "x-www-form-urlencoded"):
		form, err := url.ParseQuery(string(q.Body))
		if err != nil {
			return nil
		}
		l.form = true
		l.text = formText(q, form, take)
	default:
		var v any
		dec := json.NewDecoder(bytes.NewReader(q.Body))
		dec.UseNumber()
		if dec.Decode(&v) != nil {
			return nil
		}
		b, err := json.Marshal(filled("", v, take))
		if err != nil {
			return nil
		}
		l.text = string(b)
	}
	if again && !knows {
		q.Miss("how it gets another token for an earlier one: declare it as the refresh of the scheme")
	}
	if !knows || hasWord(q.URL.Path, makesOne) && !hasWord(q.URL.Path, logsIn) {
		return nil
	}
	l.answered(q)
	if !hasWord(q.URL.Path, logsIn) && l.access() == "" && l.cookie() == "" && (!password || len(l.values) > 4) {
		return nil // a key in what is sent is as often a part of it
	}
	return l
}

// holder is the name of the placeholder for a member.
func holder(name string) string { return strings.Trim(madeup.Placeholder(name), "{}") }

func formText(q *Request, form url.Values, take func(name, value string) (string, bool)) string {
	var parts []string
	for _, pair := range strings.Split(string(q.Body), "&") { // in their order
		n, _, _ := strings.Cut(pair, "=")
		name, err := url.QueryUnescape(n)
		if err != nil || len(form[name]) == 0 {
			continue
		}
		if isGuard(name) {
			q.Miss("the member " + name + ", which a page gives out: what it stands for is not known at a login")
		}
		v, _ := take(name, form.Get(name))
		parts = append(parts, declaration.Scalar(name)+": "+declaration.Scalar(v))
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// filled is a value with placeholders for what is somebody's.
func filled(name string, v any, take func(name, value string) (string, bool)) any {
	switch x := v.(type) {
	case map[string]any:
		for k := range x {
			x[k] = filled(k, x[k], take)
		}
	case []any:
		for k := range x {
			x[k] = filled(name, x[k], take)
		}
	case string:
		if s, is := take(name, x); is {
			return s
		}
	}
	return v
}

// answered reads what the answer gives.
func (l *login) answered(q *Request) {
	if q.Answer == nil {
		return
	}
	if json.Unmarshal(q.Answer.Body, &l.answer) != nil {
		l.answer = nil
	}
	for _, c := range q.Answer.Headers.All("Set-Cookie") {
		first, _, _ := strings.Cut(c, ";")
		if n, v, ok := strings.Cut(strings.TrimSpace(first), "="); ok && v != "" && !isGuard(n) {
			l.cookies[n] = v
		}
	}
}

// gives says whether a proof is what the login gave.
func (l *login) gives(p proof) bool {
	if p.kind == declaration.Cookie {
		return l.cookies[p.field] != "" && l.cookies[p.field] == p.value
	}
	return p.kind == declaration.Bearer && l.find(func(_, v string) bool { return v == p.value }) != ""
}

// find is where in the answer a text stands that holds; "" where none does. Of several it is the first by its way.
func (l *login) find(holds func(name, value string) bool) (at pointer.JSON) {
	var walk func(p pointer.JSON, v any)
	walk = func(p pointer.JSON, v any) {
		switch x := v.(type) {
		case map[string]any:
			for k := range x {
				walk(p.Member(k), x[k])
			}
		case []any:
			for k := range x {
				walk(p.Item(k), x[k])
			}
		case string:
			if holds(p.Last(), x) && (at == "" || p < at) {
				at = p
			}
		}
	}
	walk("", l.answer)
	return at
}

// access is where the answer has what proves who calls: what a request used, a member of that name, a JWT.
func (l *login) access() pointer.JSON {
	is := func(names ...string) func(name, value string) bool {
		return func(name, value string) bool {
			return value != "" && slices.Contains(names, strings.Join(personal.Words(name), ""))
		}
	}
	for _, c := range l.used {
		if p := c.proof(); p != nil && p.kind == declaration.Bearer {
			if at := l.find(func(_, v string) bool { return v == p.value }); at != "" {
				return at
			}
		}
	}
	for _, holds := range []func(name, value string) bool{is("accesstoken"), is("token", "jwt", "authtoken", "bearer"),
		is("idtoken", "sessiontoken", "apitoken"),
		func(name, v string) bool {
			return personal.SecretIn(v) == personal.Token && !hasWord(name, []string{"refresh"})
		}} {
		if at := l.find(holds); at != "" {
			return at
		}
	}
	return ""
}

// refresh is where the answer has what gets another one.
func (l *login) refresh() pointer.JSON {
	return l.find(func(name, value string) bool {
		return value != "" && hasWord(name, []string{"refresh", "refreshtoken"})
	})
}

// cookie is the one that the login sets and that proves who calls, "" without.
func (l *login) cookie() string {
	for _, c := range l.used {
		if p := c.proof(); p != nil && p.kind == declaration.Cookie {
			return p.field
		}
	}
	best := ""
	for n, v := range l.cookies {
		if secret(n, v) && (best == "" || n < best) {
			best = n
		}
	}
	if best == "" && len(l.cookies) == 1 {
		for n := range l.cookies {
			best = n
		}
	}
	return best
}
