package declaration

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"millgate/core/pointer"
	"millgate/core/route"
)

func (r *reader) entry(n ast.Node) *Entry {
	e := &Entry{Place: r.place(n), Broken: BrokenEither}
	by := map[string]pair{}
	for _, f := range r.entries(n, "an access entry", EntryWords) {
		by[f.key] = f
		switch f.key {
		case "at":
			e.At = r.selectors(f.val)
			if len(e.At) > 0 {
				e.Place = r.place(r.list(f.val)[0])
			}
		case "who":
			e.Who = r.whos(f)
		case "broken":
			if w := r.word(f.val, "broken", string(BrokenEither), string(BrokenIgnored),
				string(BrokenRefused)); w != "" {
				e.Broken = Broken(w)
			}
		case "hide":
			e.Hide = r.bool(f.val, "hide")
		case "turned_away":
			e.Turned = r.turnedAway(f)
		case "given":
			e.Given = map[string]any{}
			for _, g := range r.entries(f.val, "given", nil) {
				e.Given[g.key] = r.scalar(g.val, "attribute "+g.key)
			}
		case "scope":
			e.Scope = r.strings(f.val, "scope")
		case "by":
			e.By = r.refs(f.val, "by")
		case "owner_of":
			if s, ok := r.str(f.val, "owner_of"); ok {
				e.OwnerOf = Ref{Name: s, Place: r.place(f.val)}
			}
		}
	}
	if len(e.At) == 0 {
		if _, said := by["at"]; !said {
			r.fail(n, "missing", "an access entry needs `at`", "add  at: GET /path")
		}
	}
	if _, ok := by["who"]; !ok {
		r.fail(n, "missing", "an access entry needs `who`", "add  who: nobody  (or anyone, signed-in, owner, a role, "+
			"identity:NAME)")
	}
	return e
}

// whos reads who is admitted.
func (r *reader) whos(f pair) (out []Who) {
	if len(r.list(f.val)) == 0 {
		r.fail(f.kn, "missing", "`"+f.key+"` is empty", "write nobody, anyone, signed-in, owner, a role or "+
			"identity:NAME")
	}
	for _, n := range r.list(f.val) {
		x, ok := r.alternative(n, f.key)
		switch w := x.Ref; {
		case !ok:
			continue
		case x.Kind != WhoUndecided:
		case r.version == V1:
			x.Kind = WhoRole // the word came later; a role may have the name
		case f.key != "who":
			r.sayAt(w.Place, len(w.Name), Error, "type", "`undecided` says nothing in `"+f.key+"`",
				"write nobody, or who it is")
			continue
		}
		out = append(out, x)
	}
	return out
}

// is says whether it names who is of a kind.
func (e *Entry) is(k WhoKind) bool {
	return slices.ContainsFunc(e.Who, func(w Who) bool { return w.Kind == k })
}

// alone checks that those who stand for everybody, or for none, stand by themselves.
func (r *reader) alone(e *Entry, word string) {
	if len(e.Who) > 1 && (e.Open() || e.is(WhoNobody) || e.is(WhoUndecided)) {
		names := "`anyone` and `nobody`"
		if e.is(WhoUndecided) {
			names = "`anyone`, `nobody` and `undecided`"
		}
		r.sayAt(e.Place, 1, Error, "type", names+" stand alone in `"+word+"`",
			"leave only one of them, or only the others")
	}
}

// selectors reads one selector or a list of them.
func (r *reader) selectors(n ast.Node) (out []route.Selector) {
	if len(r.list(n)) == 0 {
		r.fail(n, "missing", "`at` selects nothing", "write for example  at: GET /path")
	}
	for _, x := range r.list(n) {
		s, ok := r.str(x, "at")
		if !ok {
			continue
		}
		sel, err := route.Parse(s)
		if err != nil {
			r.fail(x, "selector", err.Error(), "")
			continue
		}
		out = append(out, sel)
	}
	return out
}

// WhoOf is an alternative of `who` by its word.
func WhoOf(w Ref) Who {
	switch {
	case w.Name == "anyone":
		return Who{Kind: WhoAnyone, Ref: w}
	case w.Name == "signed-in":
		return Who{Kind: WhoSignedIn, Ref: w}
	case w.Name == "nobody":
		return Who{Kind: WhoNobody, Ref: w}
	case w.Name == "owner":
		return Who{Kind: WhoSignedIn, Ref: w, On: On{OnOwn, Ref{own, w.Place}}}
	case w.Name == undecided:
		return Who{Kind: WhoUndecided, Ref: w}
	case strings.HasPrefix(w.Name, "identity:"):
		return Who{Kind: WhoIdentity, Ref: Ref{Name: strings.TrimPrefix(w.Name, "identity:"), Place: w.Place}}
	}
	return Who{Kind: WhoRole, Ref: w}
}

func (r *reader) answers(doc *Document, n ast.Node) {
	a := &doc.Answers
	a.Status = map[int]AnswerRule{}
	named := []string{"errors", "all", "never", "schema", "login_page", "refused_when", "protects"}
	for _, f := range r.entries(n, "answers", nil) {
		switch f.key {
		case "errors":
			a.Errors = r.answerRule(f)
		case "all":
			if r.since(V11, f.kn, "`all` of answers") {
				a.All = r.answerRule(f)
			}
		case "never":
			for _, g := range r.entries(f.val, "never", []string{"fields", "text", "members"}) {
				switch g.key {
				case "fields":
					a.NeverFields = r.strings(g.val, "fields")
				case "text":
					a.NeverText = r.strings(g.val, "text")
				case "members":
					if r.since(V11, g.kn, "`members` of never") {
						for _, x := range r.list(g.val) {
							a.Never = append(a.Never, r.neverMember(x))
						}
					}
				}
			}
		case "schema":
			if a.Schema = r.word(f.val, "schema", "exact", "listed", "off"); a.Schema == "off" {
				a.Schema = ""
			}
		case "login_page":
			for _, g := range r.entries(f.val, "login_page", []string{"location"}) {
				a.LoginPage, _ = r.str(g.val, "location")
			}
		case "protects":
			if r.since(V11, f.kn, "`protects` of answers") {
				a.Protects = r.protections(f.val)
			}
		case "refused_when":
			a.RefusedWhen = r.refusals(f)
		default:
			st, err := strconv.Atoi(f.key)
			if err != nil || st < 100 || st > 599 {
				r.unknown(f.kn, f.key, "answers", append([]string{"a status like 401"}, named...))
				continue
			}
			a.Status[st] = r.answerRule(f)
		}
	}
}

func (r *reader) protections(n ast.Node) (out []Protection) {
	known := make([]string, len(Protections))
	for i, p := range Protections {
		known[i] = string(p)
	}
	for _, x := range r.list(n) {
		if p := Protection(r.word(x, "protects", known...)); p != "" && !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out
}

var statusClass = regexp.MustCompile(`^[1-5](xx|[0-9][0-9])$`)

func (r *reader) neverMember(n ast.Node) NeverMember {
	m := NeverMember{Place: r.place(n)}
	named := false
	for _, f := range r.entries(n, "a member that is never shown", []string{"at", "type", "status"}) {
		switch f.key {
		case "at":
			s, ok := r.str(f.val, "at")
			if named = true; !ok {
				continue
			}
			if m.At = pointer.Pattern(s); m.At.Check() != nil {
				r.fail(f.val, "type", m.At.Check().Error(), "")
			}
		case "type":
			m.Type = r.word(f.val, "type", "string", "number", "boolean", "object", "array")
		case "status":
			s, ok := r.str(f.val, "status")
			if m.Status = s; ok && !statusClass.MatchString(s) {
				r.fail(f.val, "type", fmt.Sprintf("%q is no status", s), "write one as 404, or a class as 2xx")
			}
		}
	}
	if !named {
		r.fail(n, "missing", "a member that is never shown needs `at`", `write for example  { at: "**/password" }`)
	}
	return m
}

func (r *reader) status(n ast.Node) int {
	s, ok := r.str(n, "status")
	st, err := strconv.Atoi(s)
	if ok && (err != nil || st < 100 || st > 599) {
		r.fail(n, "type", fmt.Sprintf("%q is not a status code", s), "write a number from 100 to 599")
		return 0
	}
	return st
}

func (r *reader) answerRule(f pair) AnswerRule {
	rule := AnswerRule{Place: f.kpos}
	for _, g := range r.entries(f.val, "answers "+f.key, []string{"type", "headers", "has", "equals"}) {
		switch g.key {
		case "type":
			rule.Type, _ = r.str(g.val, "type")
		case "headers":
			rule.Headers = r.strings(g.val, "headers")
		case "has":
			for _, x := range r.list(g.val) {
				rule.Has = append(rule.Has, r.pointer(x, "has"))
			}
		case "equals":
			if !r.since(V11, g.kn, "`equals` of answers") {
				continue
			}
			rule.Equals = r.equals(g)
		}
	}
	return rule
}

// equals are members of an answer and what they must be.
func (r *reader) equals(g pair) (out []EqualMember) {
	for _, m := range r.entries(g.val, "equals", nil) {
		at := pointer.JSON(m.key)
		if err := at.Check(); err != nil {
			r.fail(m.kn, "type", err.Error(), "write for example  { /support: call the night desk }")
		}
		text, _ := r.str(m.val, "what "+m.key+" must be")
		out = append(out, EqualMember{at, text})
	}
	return out
}

// refusals are one or several ways to say no with another status.
func (r *reader) refusals(f pair) (out []Refusal) {
	if _, list := r.plain(f.val).(*ast.SequenceNode); list {
		r.since(V11, f.kn, "a list as `refused_when`")
	}
	for _, x := range r.list(f.val) {
		out = append(out, r.refusal(x))
	}
	return out
}

func (r *reader) refusal(n ast.Node) Refusal {
	f := Refusal{Place: r.place(n), Is: RefusalWords[0]}
	var when, what bool
	for _, g := range r.entries(n, "refused_when", []string{"at", "status", "has", "equals", "is"}) {
		if g.key != "status" && g.key != "has" && !r.since(V11, g.kn, "`"+g.key+"` of refused_when") {
			continue
		}
		switch g.key {
		case "at":
			f.At = r.selectors(g.val)
		case "status":
			f.Status, when = r.status(g.val), true
		case "has":
			f.Has, what = r.pointer(g.val, "has"), true
		case "equals":
			f.Equals = r.equals(g)
			what = what || len(f.Equals) > 0
		case "is":
			f.Is = cmp.Or(r.word(g.val, "is", RefusalWords...), f.Is)
		}
	}
	if !when || !what {
		r.fail(n, "missing", "refused_when needs a status and what the answer then has",
			"write  { status: 200, has: /error }")
	}
	return f
}
