package declaration

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"millgate/core/pointer"
	"millgate/core/route"
)

// SignUp is how an account of a scheme comes to be: by whom the route admits, which is
// often anybody. Its Take has what the login needs of the answer.
type SignUp struct {
	Request
	ID       pointer.JSON // of the account, in the answer
	Password PasswordRule
	Remove   *Request // with {id}; nil where nobody may
	RemoveAs Ref      // who removes it; who made it where nothing is said
}

// PasswordRule is what a service asks of a new password. The zero PasswordRule asks nothing.
type PasswordRule struct {
	Least   int               // characters
	Refuses []PasswordRefusal // what it must not be
}

// PasswordRefusal is what a password must not be.
type PasswordRefusal string

// The refusals.
const (
	PasswordName   PasswordRefusal = "name"   // that of the account
	PasswordCommon PasswordRefusal = "common" // a word that many take
)

// Arrival is where a message with a link arrives: a mailbox of a test environment.
type Arrival struct {
	Read   Request // GET, at a declared host
	Query  [][2]string
	Find   pointer.JSON // the text of the newest message, in its answer
	Within time.Duration
}

// arrivesWithin is how long a message is waited for where nothing is said.
const arrivesWithin = 10 * time.Second

// Fresh is what stands in an account's request for a text that nobody has yet: {fresh}, or
// one that has a form.
var Fresh = []string{"fresh", "fresh:email", "fresh:uuid", "fresh:password"}

// CallerPrefix stands before the name of an attribute, or of a part of a credential, of who is sent.
const CallerPrefix = "caller."

func (r *reader) account(s *Scheme, f pair) {
	if !r.since(V11, f.kn, "`account` of a scheme") {
		return
	}
	a := &SignUp{}
	q, by := r.request(f.val, "account", "id", "password", "remove")
	if q == nil {
		return
	}
	a.Request = *q
	if p, ok := by["id"]; ok {
		a.ID = r.pointer(p.val, "id")
	}
	if p, ok := by["password"]; ok {
		for _, g := range r.entries(p.val, "password", []string{"least", "refuses"}) {
			if g.key == "least" {
				a.Password.Least = r.number(g.val, "least", 1)
				continue
			}
			for _, x := range r.list(g.val) {
				w := PasswordRefusal(r.word(x, "refuses", string(PasswordName), string(PasswordCommon)))
				if w != "" && !slices.Contains(a.Password.Refuses, w) {
					a.Password.Refuses = append(a.Password.Refuses, w)
				}
			}
		}
	}
	if p, ok := by["remove"]; ok {
		a.Remove, a.RemoveAs = r.removal(p.val)
		if _, ok := by["id"]; !ok {
			r.fail(f.kn, "missing", "account does not say where the answer has the id", "add  id: /id")
		}
	}
	s.Account = a
}

// logout reads what ends a session, and how many it ends.
func (r *reader) logout(s *Scheme, f pair) {
	var by map[string]pair
	s.Logout, by = r.request(f.val, "logout", "ends")
	if p, ok := by["ends"]; ok && r.since(V11, p.kn, "`ends` of logout") {
		s.EndsAll = r.word(p.val, "ends", "one", "all") == "all"
	}
}

// removal reads what removes something, and as whom.
func (r *reader) removal(n ast.Node) (q *Request, as Ref) {
	q, by := r.request(n, "remove", "as")
	if p, ok := by["as"]; ok && r.since(V11, p.kn, "`as` of remove") {
		if name, ok := r.str(p.val, "as"); ok {
			as = Ref{Name: name, Place: r.place(p.val)}
		}
	}
	return q, as
}

// issue reads what gives out links, and where one arrives that is not in the answer.
func (r *reader) issue(s *Scheme, f pair) {
	var by map[string]pair
	s.Issue, by = r.request(f.val, "issue", "arrives")
	p, ok := by["arrives"]
	if !ok {
		return
	}
	a := &Arrival{Within: arrivesWithin}
	if s.Arrives = a; !r.since(V11, p.kn, "`arrives` of issue") {
		return
	}
	said := map[string]bool{}
	for _, g := range r.entries(p.val, "arrives", []string{"read", "query", "find", "within"}) {
		said[g.key] = true
		switch g.key {
		case "read":
			text, ok := r.str(g.val, "read")
			at, err := route.ParseTemplate(text)
			switch {
			case ok && err != nil:
				r.fail(g.val, "selector", err.Error(), "write  read: GET mail:/messages")
			case ok && at.Method() != "GET":
				r.fail(g.val, "type", "a mailbox is read with GET", "write  read: GET mail:/messages")
			}
			a.Read = Request{Place: r.place(g.val), Method: "GET", Host: at.Host, Path: at.Path()}
		case "query":
			a.Query = r.pairs(g.val, "query")
		case "find":
			a.Find = r.pointer(g.val, "find")
		case "within":
			a.Within = r.duration(g.val, "within")
		}
	}
	for _, w := range [][2]string{{"read", "read: GET mail:/messages"}, {"find", "find: /0/text"}} {
		if !said[w[0]] {
			r.fail(p.kn, "missing", "arrives does not say `"+w[0]+"`", "add  "+w[1])
		}
	}
}

// changes reads what the admission of a route does to the attributes of who called.
func (r *reader) changes(rt *Route, f pair) {
	if !r.since(V11, f.kn, "`changes` of a route") {
		return
	}
	rt.Changes = map[string]any{}
	for _, a := range r.entries(f.val, "changes", nil) {
		rt.Changes[a.key] = r.scalar(a.val, "attribute "+a.key)
	}
}

// checkAccount says what of an account's login nothing gives.
func (d *Document) checkAccount(r *reader, s *Scheme) {
	a := s.Account
	if a == nil || s.Login == nil {
		return
	}
	for _, n := range s.Login.Placeholders() {
		if d.AccountFill(s, n) == "" && !d.isValue(n) {
			r.sayAt(a.Place, 1, Error, "missing",
				fmt.Sprintf("the login of %s needs {%s}, and its account neither sends nor takes it", s.Name, n),
				fmt.Sprintf("write {%s} where the account's body has it, or  take: { %s: /id }", n, n))
		}
	}
}

// AccountFill says what gives a name of a scheme's login for an account that was made: "take"
// of the answer, or a name of the account's own request; "" for nothing.
func (d *Document) AccountFill(s *Scheme, name string) string {
	sent := s.Account.Placeholders()
	switch {
	case s.Account.Take[name] != "":
		return "take"
	case slices.Contains(sent, name):
		return name
	case d.secretPart(s, name) && slices.Contains(sent, "fresh:password"):
		return "fresh:password"
	}
	return ""
}

// secretPart says whether a part of a scheme's credentials is a secret.
func (d *Document) secretPart(s *Scheme, part string) bool {
	return Credential{}.Secret(part) || slices.ContainsFunc(d.Identities, func(id *Identity) bool {
		c := id.Credential(s.Name)
		return c != nil && c.Secret(part)
	})
}

// PasswordPart is the name in an account's request that stands for its password, "" without.
func (d *Document) PasswordPart(s *Scheme) string {
	for _, n := range s.Account.Placeholders() {
		if n == "fresh:password" || d.secretPart(s, n) {
			return n
		}
	}
	return ""
}

func (d *Document) isValue(name string) bool {
	return slices.ContainsFunc(d.Targets, func(t *Target) bool { _, ok := t.Values[name]; return ok })
}

// isFresh says whether a name is one of Fresh with a form, which is the only kind of name with
// a colon.
func isFresh(name string) bool {
	return strings.HasPrefix(name, "fresh:") && slices.Contains(Fresh, name)
}
