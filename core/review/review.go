// Package review says what a declaration itself lets happen, before any
// request is sent.
//
// Every check has a stable id, a severity, a reason and, where one can be
// given, a fix: edits of the text that can be applied as they are. A message
// can be accepted in the text with a reason and an end:
//
//	waivers:
//	  - { check: open-write, at: POST /v1/people, reason: Sign-up is for everybody, until: 2027-03-31 }
//
// Findings are accepted the same way; whether there are any to accept is said where it is known what sweeps
// found.
//
// A waiver that has ended no longer holds and is itself reported, as is one
// that has nothing to accept.
//
// The package computes on a declaration.Document and an instant; it reads no
// clock.
package review

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/core/declaration"
	"millgate/core/declaration/layout"
	"millgate/core/finding"
	"millgate/core/route"
)

// Check is one thing that the review looks for.
type Check struct {
	ID       string
	Title    string
	Why      string // what can come of it
	Severity finding.Severity
	OWASP    string // category of the API Security Top 10 (2023)
	CWE      int
	run      func(*reviewer, *Check)
}

// Fix is a change of the text that mends a message.
type Fix struct {
	Title   string        `json:"title"`
	Edits   []layout.Edit `json:"edits,omitempty"`
	Replace *Replace      `json:"replace,omitempty"`
}

// Replace puts a word in place of another, on one line; columns count from 1,
// in characters.
type Replace struct {
	Line, Column, EndColumn int
	Text                    string
}

// Message is one thing to say about a declaration.
type Message struct {
	declaration.Message
	Severity finding.Severity
	OWASP    string
	CWE      int
	Subject  string // what it is about: a route, "role x", "quota x" …
	Route    string // the route it is about, "" without
	Fix      *Fix
	Waived   *declaration.Waiver // it is accepted, and only counted
}

// Key names a message over revisions: its check and what it is about.
func (m Message) Key() string { return m.Code + " " + m.Subject }

type reviewer struct {
	d       *declaration.Document
	now     time.Time
	found   []finding.Finding
	board   *access.Board
	out     []Message
	by      [][]int      // routes by deciding entry
	session map[int]bool // routes that serve a scheme's own requests
	login   map[int]bool // of these, its login
	sample  []int        // a route of each entry, -1 without
	widest  []int        // identities that have a credential
	current *Check
}

// Review reports on a document whose parsing gave msgs. Messages stand in the
// order of the text. When msgs has errors they are all that is returned:
// nothing can be said about a text that has no meaning.
func Review(d *declaration.Document, msgs []declaration.Message, now time.Time) []Message {
	return Beside(d, msgs, now, nil)
}

// Beside is Review where it is known what sweeps found, so that waivers of findings are held against that:
// found are all findings that there are, or may be still; nil where nothing was swept.
func Beside(d *declaration.Document, msgs []declaration.Message, now time.Time, found []finding.Finding) []Message {
	v := &reviewer{d: d, now: now, found: found}
	for _, m := range msgs {
		v.language(m)
	}
	if !declaration.Failed(msgs) {
		v.prepare()
		for i := range Checks {
			if c := &Checks[i]; c.run != nil {
				v.current = c
				c.run(v, c)
			}
		}
		v.waive()
	}
	sort.SliceStable(v.out, func(i, j int) bool {
		a, b := v.out[i], v.out[j]
		if a.File != b.File {
			return a.File == d.Name
		}
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	return v.out
}

// Open are the messages that are not waived.
func Open(list []Message) []Message {
	return slices.DeleteFunc(slices.Clone(list), func(m Message) bool { return m.Waived != nil })
}

// Find returns the check with an id, nil without.
func Find(id string) *Check {
	for i := range Checks {
		if Checks[i].ID == id {
			return &Checks[i]
		}
	}
	return nil
}

// language takes over what the parser said.
func (v *reviewer) language(m declaration.Message) {
	out := Message{Message: m, Severity: finding.Low, Subject: fmt.Sprintf("line %d", m.Line)}
	if m.Level == declaration.Error {
		out.Severity = finding.High
	}
	if c := Find(m.Code); c != nil {
		out.Severity, out.OWASP, out.CWE = c.Severity, c.OWASP, c.CWE
	}
	if m.Suggest != "" && m.File == v.d.Name {
		out.Fix = &Fix{Title: fmt.Sprintf("Write %s", m.Suggest), Replace: &Replace{m.Line, m.Column, m.EndColumn,
			declaration.Scalar(m.Suggest)}}
	}
	if m.Code == "secret-in-clear" {
		out.Fix, out.Subject = v.secretFix(m)
	}
	v.out = append(v.out, out)
}

func (v *reviewer) secretFix(m declaration.Message) (*Fix, string) {
	for _, id := range v.d.Identities {
		for _, c := range id.Credentials {
			for name, val := range c.Fill {
				if val.Place == m.Place && m.File == v.d.Name {
					env := strings.ToUpper(strings.NewReplacer("-", "_", ".", "_", "@",
						"_").Replace(id.Name + "_" + name))
					return &Fix{Title: "Take it from the environment as " + env,
							Edits: []layout.Edit{{Section: "identities", Item: id.Name,
								Field: []string{"credentials", c.Scheme.Name, name}, Text: "env:" + env}}},
						"identity " + id.Name
				}
			}
		}
	}
	return nil, "a secret"
}

func (v *reviewer) prepare() {
	d := v.d
	v.board = access.NewBoard(d)
	v.by = make([][]int, len(d.Access))
	v.sample = slices.Repeat([]int{-1}, len(d.Access))
	for i, e := range d.Deciding {
		if e >= 0 {
			v.by[e] = append(v.by[e], i)
			v.sample[e] = i
		}
	}
	v.session, v.login = map[int]bool{}, map[int]bool{}
	for _, s := range d.Schemes {
		for _, q := range []*declaration.Request{s.Login, s.Refresh, s.Logout} {
			if i := v.routeOf(q); i >= 0 {
				v.session[i] = true
				if q == s.Login {
					v.login[i] = true
				}
			}
		}
	}
	for k, id := range d.Identities {
		if len(id.Credentials) > 0 {
			v.widest = append(v.widest, k)
		}
	}
}

func (v *reviewer) routeOf(q *declaration.Request) int {
	if q == nil {
		return -1
	}
	s, err := route.ParseTemplate(q.Method + " " + route.Hosted(q.Host, q.Path))
	if err != nil {
		return -1
	}
	if hits := v.d.Inventory.Named(s); len(hits) > 0 {
		return hits[0]
	}
	return v.d.Inventory.Find(q.Method, q.Host, q.Path)
}

// say adds a message of the check that runs.
func (v *reviewer) say(at declaration.Place, width int, subject string, r int, text, hint string, fix *Fix) {
	c := v.current
	m := Message{Message: declaration.Message{Place: at, EndColumn: at.Column + max(1, width),
		Level: declaration.Warning, Code: c.ID, Text: text, Hint: hint},
		Severity: c.Severity, OWASP: c.OWASP, CWE: c.CWE, Subject: subject, Fix: fix}
	if r >= 0 {
		m.Route = v.d.Routes[r].Key()
	}
	if fix != nil && at.File != v.d.Name && fix.Edits != nil && !v.imported(at.File) {
		m.Fix = nil // the edit belongs to another file
	}
	v.out = append(v.out, m)
}

// imported says whether a file is one that routes came from: what is said
// about these is written into the declaration.
func (v *reviewer) imported(file string) bool {
	return file != v.d.Name && !slices.Contains(v.d.Includes, file)
}

func fixed(title string, edits ...layout.Edit) *Fix { return &Fix{Title: title, Edits: edits} }

// open says whether anyone may call route i.
func (v *reviewer) open(i int) bool {
	e := v.d.Entry(i)
	return e != nil && e.Open()
}

// closed says whether nobody is known who gets in at route i: it is for nobody, or nobody has decided.
func (v *reviewer) closed(i int) bool {
	o := v.board.At(i, 0).Outcome()
	return o == access.Closed || o == access.Undecided
}

// allDecided says whether it is known of every route whom it is for: else nothing can be called idle.
func (v *reviewer) allDecided() bool {
	for i := range v.d.Routes {
		if access.IsUndecided(v.d, i) {
			return false
		}
	}
	return true
}

// admits says whether identity k gets in at route i, at least to some record that the declaration names.
func (v *reviewer) admits(i, k int) bool {
	c := v.board.At(i, k+1)
	if c.Depends() {
		rec, id := v.d.Record(i), v.d.Identities[k]
		return rec != nil && slices.ContainsFunc(v.board.On(c), func(o declaration.On) bool {
			return slices.ContainsFunc(rec.IDs(), func(x string) bool { return o.Holds(rec, x, id) }) ||
				o.Kind == declaration.OnWithin && rec.Name == o.Name && len(id.In(o.Name)) > 0
		})
	}
	return c.Outcome() == access.Admit
}

// waive marks what is accepted, and reports waivers that do nothing.
func (v *reviewer) waive() {
	d := v.d
	expired := Find("waiver-expired")
	idle := Find("waiver-idle")
	unknown := Find("waiver-unknown")
	for k, w := range d.Waivers {
		say := func(c *Check, text, hint string, fix *Fix) {
			v.current = c
			v.say(w.Place, 1, fmt.Sprintf("waiver %d", k+1), -1, text, hint, fix)
		}
		if text, hint, fix := v.unknown(w); text != "" {
			say(unknown, text, hint, fix)
			continue
		}
		drop := fixed("Remove the waiver", layout.Edit{Section: "waivers", Line: w.Line})
		switch {
		case !v.accepts(w):
			say(idle, fmt.Sprintf("the waiver of %s has nothing to accept", w.Accepts()), "remove it", drop)
		case w.Ended(v.now):
			say(expired, fmt.Sprintf("the waiver of %s ended on %s: %s", w.Accepts(), w.Until.Format(time.DateOnly),
				w.Reason), "mend what it accepted, or decide again and give it a new end", drop)
		}
	}
}

// unknown says that a waiver names what does not exist; text is "" where it does not.
func (v *reviewer) unknown(w *declaration.Waiver) (text, hint string, fix *Fix) {
	near := func(word, field string, names []string, hint string) (string, *Fix) {
		n := declaration.Nearest(word, names)
		if n == "" {
			return hint, nil
		}
		return fmt.Sprintf("did you mean %q?", n), fixed("Write "+n, layout.Edit{Section: "waivers", Line: w.Line,
			Field: []string{field}, Text: n})
	}
	switch {
	case w.Check != "" && Find(w.Check) == nil:
		ids := make([]string, len(Checks))
		for i, c := range Checks {
			ids[i] = c.ID
		}
		hint, fix = near(w.Check, "check", ids, "the id stands in brackets behind the message")
		return fmt.Sprintf("there is no check %q", w.Check), hint, fix
	case w.Kind != "":
		if _, ok := finding.KindNamed(w.Kind); !ok {
			hint, fix = near(w.Kind, "kind", finding.KindWords(), "docs/verdicts.md lists the kinds")
			return fmt.Sprintf("there is no kind of findings %q", w.Kind), hint, fix
		}
	}
	for _, n := range w.Callers {
		if n == "nobody" || v.d.IdentityNamed(n) != nil || v.d.RoleNamed(n) != nil ||
			slices.ContainsFunc(v.found, func(f finding.Finding) bool { return f.ShownBy(n) }) {
			continue
		}
		if w.Finding != "" && v.found == nil {
			continue // callers of a finding have words of their own as well
		}
		names := slices.Concat([]string{"nobody"},
			declaration.Names(v.d.Identities, func(id *declaration.Identity) string { return id.Name }),
			declaration.Names(v.d.Roles, func(r *declaration.Role) string { return r.Name }))
		return fmt.Sprintf("there is no caller %q", n),
			declaration.HintAt(n, names, "write the name of an identity or a role, or nobody"), nil
	}
	return "", "", nil
}

// accepts marks what a waiver accepts, unless it has ended, and says whether there is anything.
func (v *reviewer) accepts(w *declaration.Waiver) (any bool) {
	if w.Check == "" {
		return v.found == nil || slices.ContainsFunc(v.found, func(f finding.Finding) bool {
			return finding.Concerns(v.d, w, f)
		})
	}
	for i := range v.out {
		m := &v.out[i]
		if m.Code == w.Check && v.about(w, m) {
			if any = true; !w.Ended(v.now) {
				m.Waived = w
			}
		}
	}
	return any
}

func (v *reviewer) about(w *declaration.Waiver, m *Message) bool {
	for _, n := range w.Of {
		if m.Subject == n || strings.HasSuffix(m.Subject, " "+n) && !strings.Contains(m.Subject, "/") {
			return true
		}
	}
	if m.Route == "" {
		return false
	}
	return v.d.Selects(w.At, m.Route)
}

// WaiverFor is the text of a waiver that accepts a message.
func WaiverFor(m Message, reason, by string, until time.Time) layout.Edit {
	about := "of: " + declaration.Scalar(m.Subject)
	if m.Route != "" {
		about = "at: " + declaration.Scalar(m.Route)
	} else if _, name, ok := strings.Cut(m.Subject, " "); ok {
		about = "of: " + declaration.Scalar(name)
	}
	return waiver("check: "+m.Code+", "+about, reason, by, until)
}

// mostCallers is how many callers a waiver names; of more, later sweeps tell whether the finding grew.
const mostCallers = 12

// WaiverForFinding is the text of a waiver that accepts a finding as it is, shown by whom it is shown now.
func WaiverForFinding(f finding.Finding, reason, by string, until time.Time) layout.Edit {
	var callers []string
	for _, who := range slices.Concat(f.Callers, f.Inferred) {
		if name := declaration.Scalar(finding.Caller(who)); !slices.Contains(callers, name) {
			callers = append(callers, name)
		}
	}
	about := "finding: " + f.ID
	switch {
	case len(callers) == 1:
		about += ", callers: " + callers[0]
	case len(callers) > 1 && len(callers) <= mostCallers:
		about += ", callers: [" + strings.Join(callers, ", ") + "]"
	}
	return waiver(about, reason, by, until)
}

// waiver adds one to a text.
func waiver(about, reason, by string, until time.Time) layout.Edit {
	t := "{ " + about + ", reason: " + declaration.Scalar(reason)
	if by != "" {
		t += ", by: " + declaration.Scalar(by)
	}
	return layout.Edit{Section: "waivers", Text: t + ", until: " + until.Format(time.DateOnly) + " }"}
}

// Apply makes a fix in the text.
func (f *Fix) Apply(text string) (string, error) {
	if r := f.Replace; r != nil {
		lines := strings.Split(text, "\n")
		if r.Line < 1 || r.Line > len(lines) {
			return "", fmt.Errorf("there is no line %d", r.Line)
		}
		l := []rune(lines[r.Line-1])
		if r.Column < 1 || r.Column > len(l) || r.EndColumn-1 > len(l) || r.Column > r.EndColumn {
			return "", fmt.Errorf("line %d is not as it was", r.Line)
		}
		end, text := r.EndColumn-1, r.Text
		if q := l[r.Column-1]; q == '"' || q == '\'' {
			// The word stands in quotes: these go with it.
			if i := slices.Index(l[r.Column:], q); i >= 0 {
				end = r.Column + i + 1
				text = string(q) + strings.Trim(r.Text, `"'`) + string(q)
			}
		}
		lines[r.Line-1] = string(l[:r.Column-1]) + text + string(l[end:])
		return strings.Join(lines, "\n"), nil
	}
	return layout.Apply(text, f.Edits...)
}
