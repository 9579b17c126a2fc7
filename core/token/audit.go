package token

import (
	"crypto/sha256"
	"encoding/hex"
	"hash/maphash"
	"slices"
	"sort"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/finding"
)

// Bounds of an audit's memory.
const (
	maxNames    = 200     // different issuers, clients, … that are listed by name
	maxExamples = 5       // of each judgement
	maxList     = 50      // offenders, and most powerful tokens
	maxSeen     = 4 << 20 // different tokens that repetitions are told from
	maxRights   = 4096    // different sets of rights that reach is remembered for
)

// Steps are the upper ends of the histogram of lifetimes.
var Steps = []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, 30 * time.Minute, time.Hour, 4 * time.Hour,
	12 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 30 * 24 * time.Hour, 365 * 24 * time.Hour}

// Seen is a token of an audit, by what does not give it away.
type Seen struct {
	Line        int              `json:"line"`
	Fingerprint string           `json:"fingerprint"` // the first 4 bytes of its SHA-256
	Subject     string           `json:"subject"`
	Issuer      string           `json:"issuer"`
	Scheme      string           `json:"scheme"`
	Severity    finding.Severity `json:"severity,omitempty"` // its gravest judgement
	Wrong       int              `json:"wrong"`              // judgements about it
	Text        string           `json:"text,omitempty"`     // the gravest
	Opens       int              `json:"opens"`              // routes that need a token
	Unsafe      int              `json:"unsafe"`             // of these, how many change something
	Beyond      int              `json:"beyond"`             // of these, how many its holder is not granted
}

// Tally counts one judgement.
type Tally struct {
	Judgement
	Count    int    `json:"count"`
	Examples []Seen `json:"examples"`
}

// Step is one bar of the histogram.
type Step struct {
	UpTo    time.Duration `json:"upTo"` // 0 is longer than the last step
	Count   int           `json:"count"`
	TooLong int           `json:"tooLong"` // of these, longer than declared
}

// Count is a name and how often it stood.
type Count struct {
	Name  string `json:"name"`
	Count int    `json:"count"`
}

// Auditor judges many tokens in bounded memory. Add one after the other, then
// take the Report.
type Auditor struct {
	c       Context
	seed    maphash.Seed
	seen    map[uint64]struct{}
	tokens  int
	groups  map[string]map[string]int
	steps   []Step
	endless int
	tally   map[string]*Tally
	worst   []Seen
	power   []Seen
	reach   map[string][3]int
	sound   int
	unsure  int
	guesses []string          // nil until they are needed
	secrets map[string]string // guessed HMAC secrets by issuer and key id, "" where none was found
}

// Audited is what an audit has found so far.
type Audited struct {
	Tokens    int                `json:"tokens"`
	Distinct  int                `json:"distinct"`
	Sound     int                `json:"sound"`   // a service would take them
	Unsure    int                `json:"unsure"`  // nobody can tell: not read, or not verified
	Endless   int                `json:"endless"` // without an end
	Groups    map[string][]Count `json:"groups"`  // by issuer, kind, client, algorithm, scheme
	Lifetimes []Step             `json:"lifetimes"`
	Tallies   []Tally            `json:"tallies"`
	Offenders []Seen             `json:"offenders"`
	Powerful  []Seen             `json:"powerful"`
}

// NewAuditor makes one; Scheme and Identity of the context are found for each
// token.
func NewAuditor(c Context) *Auditor {
	a := &Auditor{c: c, seed: maphash.MakeSeed(), seen: map[uint64]struct{}{}, groups: map[string]map[string]int{},
		tally: map[string]*Tally{}, reach: map[string][3]int{}, secrets: map[string]string{}}
	for _, s := range Steps {
		a.steps = append(a.steps, Step{UpTo: s})
	}
	a.steps = append(a.steps, Step{})
	return a
}

// Looked is what was looked at of one token: everything that asks nothing of the tokens
// before it.
type Looked struct {
	line     int
	t        *Token
	hash     uint64
	subject  string
	issuer   string
	scheme   *declaration.Scheme
	identity *declaration.Identity
	list     []Judgement
	rights   string // what its rights depend on; "" without a scheme
}

// Told is what is said of one token. It does not hold the token.
type Told struct {
	Seen
	Identity   string      `json:"identity,omitempty"`
	Outcome    Outcome     `json:"outcome"`
	Judgements []Judgement `json:"judgements"`
	Again      bool        `json:"again,omitempty"` // it stood on an earlier line, where it was told
}

// Add judges one token that stood on a line.
func (a *Auditor) Add(line int, text string) { a.Count(a.Look(line, text)) }

// Look judges one token that stood on a line. It changes nothing, so that many can be
// looked at beside each other; each is then taken, in the order of the lines.
func (a *Auditor) Look(line int, text string) Looked { return a.look(line, Decode(text)) }

// LookTooLong is Look for a token of which nothing but the size is known.
func (a *Auditor) LookTooLong(line, size int) Looked { return a.look(line, TooLong(size)) }

func (a *Auditor) look(line int, t *Token) Looked {
	if t.Kind == Empty {
		return Looked{}
	}
	l := Looked{line: line, t: t, hash: maphash.String(a.seed, t.Raw)}
	if t.Kind == Unread { // none of them is known to be another
		l.hash = maphash.Comparable(a.seed, [2]int{line, t.size})
	}
	var few [5]string
	names := subject(t, few[:0])
	l.subject = first(names)
	l.issuer, _ = t.Claims.String("iss")
	c := a.c
	c.Identity = holder(c.Doc, names)
	c.Scheme = schemeOf(c.Doc, t, c.Values, c.Identity)
	l.identity, l.scheme = c.Identity, c.Scheme
	if c.Of != nil {
		switch k, ok := c.Of[schemeName(c.Scheme)]; {
		case ok:
			c.Keys, c.NoKeys = k.Keys, k.Why
		default:
			c.Keys, c.NoKeys = Keys{}, "it belongs to no scheme of the declaration whose keys are known"
		}
	}
	l.list = Judge(t, c)
	if c.Scheme != nil {
		l.rights = rightsOf(t, c)
	}
	return l
}

// Take counts what was looked at, and tells of it; ok is false where that was no token.
func (a *Auditor) Take(l Looked) (told Told, ok bool) {
	if told, ok = a.count(l); ok {
		told.Seen = l.named(told.Seen)
	}
	return told, ok
}

// Count is Take for who need not be told.
func (a *Auditor) Count(l Looked) { a.count(l) }

// count counts what was looked at. What it tells still holds texts of the token, and does not name it.
func (a *Auditor) count(l Looked) (told Told, ok bool) {
	t := l.t
	if t == nil {
		return told, false
	}
	a.tokens++
	if _, again := a.seen[l.hash]; again {
		return Told{Seen: Seen{Line: l.line}, Again: true, Judgements: []Judgement{}}, true
	}
	if len(a.seen) < maxSeen {
		a.seen[l.hash] = struct{}{}
	}
	list := l.list
	if w := a.secret(t, l.issuer); w != "" {
		list = append([]Judgement{Guessed(w)}, list...)
	}
	outcome := OutcomeOf(list)
	switch outcome {
	case Takes:
		a.sound++
	case CannotTell:
		a.unsure++
	case Refuses:
	}
	s := Seen{Line: l.line, Subject: l.subject, Issuer: l.issuer, Scheme: schemeName(l.scheme), Wrong: len(list)}
	if len(list) > 0 {
		s.Severity, s.Text = list[0].Severity, list[0].Text
	}
	a.group(t, s)
	a.life(t, list)
	if l.scheme != nil {
		r := a.opens(l)
		s.Opens, s.Unsafe, s.Beyond = r[0], r[1], r[2]
	}
	for _, j := range list {
		n := a.tally[j.ID]
		if n == nil {
			n = &Tally{Judgement: j}
			a.tally[j.ID] = n
		}
		n.Count++
		if len(n.Examples) < maxExamples {
			e := s
			e.Text, e.Severity = j.Text, j.Severity
			n.Examples = append(n.Examples, l.named(e))
		}
	}
	if len(list) > 0 {
		a.worst = keep(a.worst, s, l, func(x, y Seen) bool {
			if x.Severity != y.Severity {
				return x.Severity.AtLeast(y.Severity)
			}
			return x.Wrong > y.Wrong
		})
	}
	if s.Opens > 0 {
		a.power = keep(a.power, s, l, func(x, y Seen) bool {
			if x.Unsafe != y.Unsafe {
				return x.Unsafe > y.Unsafe
			}
			return x.Opens > y.Opens
		})
	}
	told = Told{Seen: s, Outcome: outcome, Judgements: list}
	if l.identity != nil {
		told.Identity = l.identity.Name
	}
	return told, true
}

// named makes what is kept of a token: its texts no longer hold the whole of it.
func (l Looked) named(s Seen) Seen {
	sum := sha256.Sum256([]byte(l.t.Raw))
	s.Fingerprint = hex.EncodeToString(sum[:4])
	s.Subject, s.Issuer = strings.Clone(s.Subject), strings.Clone(s.Issuer)
	return s
}

func schemeName(s *declaration.Scheme) string {
	if s == nil {
		return ""
	}
	return s.Name
}

// secret guesses among the words that ship, once for each issuer and key: a
// list tried on a million tokens would take hours.
func (a *Auditor) secret(t *Token, issuer string) string {
	if !Guessable(t) {
		return ""
	}
	kid, _ := t.Header.String("kid")
	var room [128]byte
	key := append(append(append(append(append(room[:0], t.Algorithm()...), 0), issuer...), 0), kid...)
	w, known := a.secrets[string(key)]
	if !known {
		w, _ = Guess(t, a.words())
		if len(a.secrets) < maxRights {
			a.secrets[string(key)] = w
		}
		return w
	}
	if w != "" {
		w, _ = Guess(t, []string{w})
	}
	return w
}

func (a *Auditor) words() []string {
	if len(a.secrets) >= maxRights {
		return nil // every token has another issuer: no more than was done
	}
	if a.guesses == nil { // most audits have nothing to guess
		a.guesses = usualWords(a.c.Doc, a.c.Values)
	}
	return a.guesses
}

// keep puts s where it belongs in a list that stays short.
func keep(list []Seen, s Seen, l Looked, before func(a, b Seen) bool) []Seen {
	if len(list) == maxList && !before(s, list[len(list)-1]) {
		return list
	}
	i := sort.Search(len(list), func(i int) bool { return before(s, list[i]) })
	list = slices.Insert(list, i, l.named(s))
	return list[:min(len(list), maxList)]
}

func (a *Auditor) group(t *Token, s Seen) {
	count := func(group, name string) {
		m := a.groups[group]
		if m == nil {
			m = map[string]int{}
			a.groups[group] = m
		}
		if name == "" {
			name = "not said"
		}
		if _, known := m[name]; !known && len(m) >= maxNames {
			name = "others"
		}
		if _, known := m[name]; !known {
			name = strings.Clone(name) // it is a part of the token's text
		}
		m[name]++
	}
	kind := string(t.Kind)
	if t.Kind == Signed {
		if typ, ok := t.Header.String("typ"); ok {
			kind = typ
		}
		count("algorithm", t.Algorithm())
		count("issuer", s.Issuer)
		client := ""
		for _, c := range []string{"client_id", "azp"} {
			if v, ok := t.Claims.String(c); ok && client == "" {
				client = v
			}
		}
		count("client", client)
	}
	count("kind", kind)
	count("scheme", s.Scheme)
}

func (a *Auditor) life(t *Token, list []Judgement) {
	if t.Kind != Signed {
		return
	}
	exp, ok := t.Date("exp")
	if !ok {
		a.endless++
		return
	}
	begin, ok := t.Date("iat")
	if !ok {
		if begin, ok = t.Date("nbf"); !ok {
			return
		}
	}
	d := exp.Sub(begin)
	i := sort.Search(len(Steps), func(i int) bool { return d <= Steps[i] })
	a.steps[i].Count++
	if slices.ContainsFunc(list, func(j Judgement) bool { return j.ID == "too-long" }) {
		a.steps[i].TooLong++
	}
}

// rightsOf is what the rights of a token depend on: tokens of equal rights open the same.
func rightsOf(t *Token, c Context) string {
	var room [256]byte
	key := append(room[:0], c.Scheme.Name...)
	if c.Identity != nil {
		key = append(append(key, 0), c.Identity.Name...)
	}
	var few [8]string
	for _, what := range named(c.Scheme.Claims, few[:0]) {
		key = append(append(append(key, 0), what...), '=')
		if m := t.at(c.Scheme.Claims[what]); m != nil {
			key = append(key, m.Raw...)
		}
	}
	return string(key)
}

// opens counts what a token opens: routes, those that change something, and
// those that are not granted. Tokens of equal rights are asked for once.
func (a *Auditor) opens(l Looked) [3]int {
	if r, ok := a.reach[l.rights]; ok {
		return r
	}
	t, c := l.t, a.c
	c.Scheme, c.Identity = l.scheme, l.identity
	var r [3]int
	for _, o := range Reach(c.Doc, c.Scheme, t, c.Identity) {
		if o.Public || !o.Admitted {
			continue
		}
		r[0]++
		if i := c.Doc.RouteNamed(o.Route); i >= 0 && c.Doc.Routes[i].Effect != declaration.Read {
			r[1]++
		}
		if c.Identity != nil && !o.Granted {
			r[2]++
		}
	}
	if len(a.reach) < maxRights {
		a.reach[l.rights] = r
	}
	return r
}

// Report is what was found, the most frequent first.
func (a *Auditor) Report() Audited {
	r := Audited{Tokens: a.tokens, Distinct: len(a.seen), Sound: a.sound, Unsure: a.unsure, Endless: a.endless,
		Groups: map[string][]Count{}, Lifetimes: slices.Clone(a.steps), Offenders: slices.Clone(a.worst),
		Powerful: slices.Clone(a.power)}
	for g, m := range a.groups {
		for n, c := range m {
			r.Groups[g] = append(r.Groups[g], Count{n, c})
		}
		slices.SortFunc(r.Groups[g], func(x, y Count) int {
			if x.Count != y.Count {
				return y.Count - x.Count
			}
			return strings.Compare(x.Name, y.Name)
		})
	}
	for _, t := range a.tally {
		r.Tallies = append(r.Tallies, *t)
	}
	slices.SortFunc(r.Tallies, func(x, y Tally) int {
		switch {
		case x.Severity != y.Severity && x.Severity.AtLeast(y.Severity):
			return -1
		case x.Severity != y.Severity:
			return 1
		case x.Count != y.Count:
			return y.Count - x.Count
		}
		return strings.Compare(x.ID, y.ID)
	})
	return r
}
