package declaration

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"
)

// Help for whoever writes a declaration: what can stand at a place, what a word
// means, where a name is declared. It works on texts that cannot be parsed yet,
// since that is what a text is while somebody types.

// Option is something that can stand at a place.
type Option struct {
	Label  string `json:"label"`
	Detail string `json:"detail"` // what kind of thing it is
	Info   string `json:"info"`   // what it means
	Insert string `json:"insert"` // what is written
}

// Completion lists what can stand at a place, in place of the text from column
// From on.
type Completion struct {
	From    int      `json:"from"`
	Options []Option `json:"options"`
}

// Help says what a word means; columns count from 1.
type Help struct {
	Title     string
	Text      string
	Column    int
	EndColumn int
	Place     Place // where it is declared; zero without
}

// spot is where a cursor stands: the keys that lead there, "#" for an item of
// a list.
type spot struct {
	path  []string
	key   bool // a key can stand here
	value bool // a value can
	from  int  // offset of the word that the cursor is in or behind
	flow  bool
}

type level struct {
	indent int
	key    string
}

// locate finds the spot of an offset without needing a text that parses.
func locate(text string, off int) spot {
	var blocks []level
	var flows []level // indent is '{' or '['
	s := spot{}
	i := 0
	for i <= off && i <= len(text) {
		end := len(text)
		if j := strings.IndexByte(text[i:], '\n'); j >= 0 {
			end = i + j
		}
		last := off <= end
		stop := min(end, off)
		k := i
		if len(flows) == 0 {
			for k < end && text[k] == ' ' {
				k++
			}
			ind := k - i
			if last && k > off {
				ind, k = off-i, off
			}
			blank := k >= end || text[k] == '#'
			if !blank || last {
				for len(blocks) > 0 && blocks[len(blocks)-1].indent >= ind {
					blocks = blocks[:len(blocks)-1]
				}
			}
			s.from, s.key, s.value = k, true, false
			for k < stop && text[k] == '-' && (k+1 >= end || text[k+1] == ' ') {
				blocks = append(blocks, level{ind, "#"})
				k++
				for k < stop && text[k] == ' ' {
					k++
				}
				ind = k - i
				s.from, s.value = k, true
			}
			if k < end && text[k] == '#' {
				s.key, s.value = false, false
				if last {
					break
				}
				i = end + 1
				continue
			}
			flowHere := k < end && (text[k] == '{' || text[k] == '[')
			if e := (layout{text}).skipKey2(k, end); !flowHere && e < end && text[e] == ':' {
				blocks = append(blocks, level{ind, unquoted(strings.TrimSpace(text[k:e]))})
				if e < stop {
					k = e + 1
					for k < stop && text[k] == ' ' {
						k++
					}
					s.from, s.key, s.value = k, false, true
				} else {
					blocks = blocks[:len(blocks)-1]
					k = stop
				}
			}
		}
		// The value on this line, brackets included.
		for k < stop {
			c := text[k]
			switch {
			case c == '"' || c == '\'':
				if k == s.from || len(flows) > 0 {
					q := layout{text}.skipQuoted(k)
					if q > stop {
						s.from = k
						k = stop
						continue
					}
					k = q
					continue
				}
			case c == '#' && k > i && text[k-1] == ' ':
				s.key, s.value = false, false
				k = stop
				continue
			case c == '{' || c == '[':
				if k == s.from || len(flows) > 0 {
					flows = append(flows, level{int(c), ""})
					s.key, s.value = c == '{', c == '['
					s.from = next(text, k+1, stop)
				}
			case (c == '}' || c == ']') && len(flows) > 0:
				flows = flows[:len(flows)-1]
				s.key, s.value, s.from = false, false, k+1
			case c == ',' && len(flows) > 0:
				top := &flows[len(flows)-1]
				top.key = ""
				s.key, s.value = top.indent == '{', top.indent == '['
				s.from = next(text, k+1, stop)
			case c == ':' && len(flows) > 0 && flows[len(flows)-1].indent == '{' && flows[len(flows)-1].key == "" &&
				(k+1 >= end || text[k+1] == ' '):
				flows[len(flows)-1].key = unquoted(strings.TrimSpace(text[s.from:k]))
				s.key, s.value = false, true
				s.from = next(text, k+1, stop)
			}
			k++
		}
		if last {
			break
		}
		if len(flows) > 0 {
			s.from = next(text, end+1, off)
		}
		i = end + 1
	}
	for _, b := range blocks {
		s.path = append(s.path, b.key)
	}
	for _, f := range flows {
		if f.indent == '[' {
			s.path = append(s.path, "#")
		} else if f.key != "" {
			s.path = append(s.path, f.key)
		}
	}
	s.flow = len(flows) > 0
	s.from = min(s.from, off)
	return s
}

func next(text string, k, stop int) int {
	for k < stop && (text[k] == ' ' || text[k] == '\n') {
		k++
	}
	return k
}

// skipKey2 is skipKey that never leaves the line.
func (l layout) skipKey2(i, end int) int {
	if i >= end {
		return end
	}
	return min(layout{l.text[:end]}.skipKey(i), end)
}

type schemaNode = map[string]any

var schemaRoot = func() schemaNode {
	var n schemaNode
	if err := json.Unmarshal(Schema, &n); err != nil {
		panic(err) // it is part of the program
	}
	return n
}()

// resolved looks through references and alternatives.
func resolved(n schemaNode) []schemaNode {
	var out []schemaNode
	if ref, ok := n["$ref"].(string); ok {
		defs, _ := schemaRoot["$defs"].(schemaNode)
		if d, ok := defs[strings.TrimPrefix(ref, "#/$defs/")].(schemaNode); ok {
			for _, r := range resolved(d) {
				if r["description"] == nil || n["description"] != nil {
					c := schemaNode{}
					for k, v := range r {
						c[k] = v
					}
					if n["description"] != nil {
						c["description"] = n["description"]
					}
					r = c
				}
				out = append(out, r)
			}
		}
		return out
	}
	if alts, ok := n["anyOf"].([]any); ok && n["properties"] == nil {
		for _, a := range alts {
			if m, ok := a.(schemaNode); ok {
				out = append(out, resolved(m)...)
			}
		}
		if n["description"] != nil {
			out = append(out, schemaNode{"description": n["description"]})
		}
		return out
	}
	return []schemaNode{n}
}

// walk follows a path through the schema.
func walk(path []string) []schemaNode {
	at := resolved(schemaRoot)
	for _, k := range path {
		var to []schemaNode
		for _, n := range at {
			if k == "#" {
				if items, ok := n["items"].(schemaNode); ok {
					to = append(to, resolved(items)...)
				}
				continue
			}
			if props, ok := n["properties"].(schemaNode); ok {
				if p, ok := props[k].(schemaNode); ok {
					to = append(to, resolved(p)...)
					continue
				}
			}
			if pats, ok := n["patternProperties"].(schemaNode); ok && len(k) == 3 && k[0] >= '1' && k[0] <= '5' {
				for _, p := range pats {
					to = append(to, resolved(p.(schemaNode))...)
				}
			}
			if more, ok := n["additionalProperties"].(schemaNode); ok {
				to = append(to, resolved(more)...)
			}
		}
		at = to
	}
	return at
}

func described(n schemaNode) string { s, _ := n["description"].(string); return s }

// keysAt are the words that can stand as keys at a path.
func keysAt(path []string) (out []Option) {
	seen := map[string]bool{}
	for _, n := range walk(path) {
		props, _ := n["properties"].(schemaNode)
		for k, v := range props {
			if seen[k] {
				continue
			}
			seen[k] = true
			info := ""
			for _, r := range resolved(v.(schemaNode)) {
				if info = described(r); info != "" {
					break
				}
			}
			if d := described(v.(schemaNode)); d != "" {
				info = d
			}
			out = append(out, Option{Label: k, Detail: "word", Info: info, Insert: k + ": "})
		}
	}
	order := map[string]int{}
	for i, w := range slices.Concat(topWords, targetWords, routeWords, sampleWords, entryWords, quotaWords,
		schemeWords) {
		if _, ok := order[w]; !ok {
			order[w] = i
		}
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := order[out[i].Label], order[out[j].Label]
		return a < b || a == b && out[i].Label < out[j].Label
	})
	return out
}

// valuesAt are the values that the schema lists for a path.
func valuesAt(path []string) (out []Option) {
	seen := map[string]bool{}
	for _, n := range walk(path) {
		add := func(v any, detail string) {
			l := fmt.Sprint(v)
			if !seen[l] {
				seen[l] = true
				out = append(out, Option{Label: l, Detail: detail, Info: described(n), Insert: l})
			}
		}
		if list, ok := n["enum"].([]any); ok {
			for _, v := range list {
				add(v, "value")
			}
		}
		if n["type"] == "boolean" {
			add("true", "value")
			add("false", "value")
		}
		if list, ok := n["examples"].([]any); ok {
			for _, v := range list {
				add(v, "example")
			}
		}
	}
	return out
}

// named are the names of the document that can stand at a path, as values or
// as keys.
func (d *Document) named(path []string, more map[string][]string) []Option {
	var clean []string
	for _, k := range path {
		if k != "#" {
			clean = append(clean, k)
		}
	}
	if len(clean) == 0 {
		return nil
	}
	section, last := clean[0], clean[len(clean)-1]
	var out []Option
	put := func(detail string, names []string) {
		for _, n := range names {
			out = append(out, Option{Label: n, Detail: detail, Info: d.about(detail, n), Insert: Scalar(n)})
		}
	}
	roles := func() { put("role", names(d.Roles, func(r *Role) string { return r.Name })) }
	identities := func(prefix string) {
		put("identity", names(d.Identities, func(i *Identity) string { return prefix + i.Name }))
	}
	schemes := func() { put("scheme", names(d.Schemes, func(s *Scheme) string { return s.Name })) }
	switch {
	case last == "who" && section == "access":
		for _, w := range []string{"anyone", "signed-in", "nobody", "owner"} {
			out = append(out, Option{Label: w, Detail: "value", Info: whoHelp[w], Insert: w})
		}
		roles()
		for _, id := range d.Identities {
			out = append(out, Option{Label: "identity:" + id.Name, Detail: "identity",
				Info: d.about("identity", id.Name), Insert: string(quote("identity:" + id.Name))})
		}
	case last == "by" && section == "access", len(clean) == 3 && last == "credentials":
		schemes()
	case last == "roles" && section == "identities", last == "includes":
		roles()
	case last == "owned_by", last == "as":
		identities("")
	case last == "owner_of":
		put("record", names(d.Records, func(r *Record) string { return r.Name }))
	case last == "given", last == "attributes":
		put("attribute", collected(d.Identities,
			func(id *Identity) []string { return slices.Collect(maps.Keys(id.Attributes)) }))
	case last == "scope", last == "scopes":
		put("scope", collected(d.Identities, func(id *Identity) []string { return id.Scopes }))
	case section == "schemes" && len(clean) == 4 && clean[2] == "lifetime":
		put("lifetime", names(d.Lifetimes, func(l *Lifetime) string { return l.Name }))
	case last == "for" && section == "quotas":
		roles()
		identities("identity:")
	case last == "exempt":
		roles()
		put("target", names(d.Targets, func(t *Target) string { return "target:" + t.Name }))
		identities("identity:")
	case last == "host" && section == "routes":
		put("host", collected(d.Targets, func(t *Target) []string { return slices.Collect(maps.Keys(t.Hosts)) }))
	case last == "fills":
		put("parameter", collected(d.Routes, func(r *Route) []string { return r.Parameters() }))
	case last == "at" && section != "routes", last == "send" && section != "routes":
		put("route", names(d.Routes, func(r *Route) string { return r.Key() }))
	default:
		put(last, more[last])
	}
	return out
}

// collected are the names that a list has, each once, in their order.
func collected[T any](list []T, of func(T) []string) (out []string) {
	for _, x := range list {
		out = append(out, of(x)...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

var whoHelp = map[string]string{
	"anyone":    "Everybody, without a credential.",
	"signed-in": "Every caller with a sound credential that the route accepts.",
	"nobody":    "No caller at all.",
	"owner":     "Whoever owns the record behind the path parameter.",
}

// about says in a sentence what a name stands for.
func (d *Document) about(kind, name string) string {
	switch kind {
	case "role":
		r := d.RoleNamed(name)
		if r == nil {
			return ""
		}
		has := 0
		for _, id := range d.Identities {
			if d.RolesOf(id)[name] {
				has++
			}
		}
		s := fmt.Sprintf("A role that %d %s.", has, map[bool]string{true: "identity has",
			false: "identities have"}[has == 1])
		if len(r.Includes) > 0 {
			s += " It includes " + strings.Join(names(r.Includes, func(x Ref) string { return x.Name }), " and ") + "."
		}
		return s
	case "identity":
		id := d.IdentityNamed(strings.TrimPrefix(name, "identity:"))
		if id == nil {
			return ""
		}
		s := "An identity"
		if len(id.Roles) > 0 {
			s += " with the role " + strings.Join(names(id.Roles, func(x Ref) string { return x.Name }), " and ")
		}
		if len(id.Credentials) > 0 {
			s += ", comes with " + strings.Join(names(id.Credentials,
				func(c Credential) string { return c.Scheme.Name }), " and ")
		}
		return s + "."
	case "scheme":
		if s := d.SchemeNamed(name); s != nil {
			return fmt.Sprintf("A scheme of kind %s.", s.Kind)
		}
	case "lifetime":
		if l := d.LifetimeNamed(name); l != nil && l.Max > 0 {
			return "At most " + ShortDuration(l.Max) + "."
		}
	case "record":
		if r := d.RecordNamed(name); r != nil {
			return fmt.Sprintf("A record with %d owners.", len(r.OwnedBy))
		}
	case "route":
		if i := d.RouteNamed(name); i >= 0 {
			s := d.Routes[i].Summary
			if e := d.Entry(i); e != nil {
				s += fmt.Sprintf(" For %s (line %d).", strings.Join(names(e.Who, WhoWord), ", "), e.Line)
			}
			return strings.TrimSpace(s)
		}
	}
	return ""
}

// offset turns a place that counts characters from 1 into bytes.
func offset(text string, line, column int) int {
	i := layout{text}.offsetOfLine(line)
	for n := 1; n < column && i < len(text) && text[i] != '\n'; n++ {
		_, w := utf8.DecodeRuneInString(text[i:])
		i += w
	}
	return i
}

func columnOf(text string, off int) int {
	from := strings.LastIndexByte(text[:off], '\n') + 1
	return utf8.RuneCountInString(text[from:off]) + 1
}

// Complete lists what can stand at a place. d is the last document that was
// read from the text; more are names by the word they belong to, which this
// package does not know.
func Complete(text string, line, column int, d *Document, more map[string][]string) Completion {
	off := offset(text, line, column)
	s := locate(text, off)
	c := Completion{From: columnOf(text, s.from)}
	typed := strings.ToLower(strings.TrimLeft(text[s.from:off], `"'`))
	fits := func(list []Option) {
		for _, o := range list {
			if l := strings.ToLower(o.Label); typed == "" || strings.Contains(l, typed) {
				c.Options = append(c.Options, o)
			}
		}
	}
	if s.value {
		fits(d.named(s.path, more))
		fits(valuesAt(s.path))
	}
	if s.key {
		fits(keysAt(s.path))
		for _, o := range d.named(s.path, nil) {
			if o.Detail != "route" && len(s.path) > 0 && mapOfNames[s.path[len(s.path)-1]] {
				o.Insert = Scalar(o.Label) + ": "
				fits([]Option{o})
			}
		}
	}
	// What begins with the text comes before what only has it in it.
	slices.SortStableFunc(c.Options, func(a, b Option) int {
		rank := func(o Option) int {
			if strings.HasPrefix(strings.ToLower(o.Label), typed) {
				return 0
			}
			return 1
		}
		return rank(a) - rank(b)
	})
	c.Options = c.Options[:min(len(c.Options), 200)]
	return c
}

// mapOfNames are words whose members are names declared elsewhere.
var mapOfNames = map[string]bool{"credentials": true, "owned_by": true, "given": true, "attributes": true, "for": true}

// wordAt is the word around an offset, in a line.
func wordAt(text string, off int) (from, to int) {
	stop := func(c byte) bool { return strings.IndexByte(" \n,{}[]\"'#", c) >= 0 }
	from, to = off, off
	// A selector is a word with a blank in it.
	for from > 0 && !stop(text[from-1]) {
		from--
	}
	for to < len(text) && !stop(text[to]) {
		to++
	}
	for to > from && text[to-1] == ':' {
		to--
	}
	return from, to
}

// Explain says what stands at a place; ok is false when nothing is known of it.
func Explain(text string, line, column int, d *Document) (h Help, ok bool) {
	off := offset(text, line, column)
	from, to := wordAt(text, off)
	if from == to {
		return h, false
	}
	word := text[from:to]
	h.Column, h.EndColumn = columnOf(text, from), columnOf(text, to)
	s := locate(text, to)
	key := to < len(text) && text[to] == ':' || to+1 < len(text) && strings.IndexByte(`"'`, text[to]) >= 0 &&
		text[to+1] == ':'
	if key {
		at := s.path
		if !s.key && len(at) > 0 && at[len(at)-1] == word {
			at = at[:len(at)-1]
		}
		for _, o := range keysAt(at) {
			if o.Label == word {
				h.Title, h.Text = word, o.Info
				return h, true
			}
		}
	}
	for _, o := range d.named(s.path, nil) {
		if o.Label == word && o.Detail != "route" {
			h.Title, h.Text = o.Detail+" "+strings.TrimPrefix(word, "identity:"), o.Info
			h.Place = d.placeOf(o.Detail, word)
			return h, true
		}
	}
	if h.Place = d.placeOf(singular(s.path), word); h.Place.Line > 0 {
		h.Title = singular(s.path) + " " + word
		h.Text = d.about(singular(s.path), word)
		return h, true
	}
	// A selector stands with its method in front.
	if i := d.routeNear(text, from, to); i >= 0 {
		rt := d.Routes[i]
		h.Title, h.Text, h.Place = rt.Key(), d.about("route", rt.Key()), rt.Place
		if e := d.Entry(i); e != nil && len(s.path) > 0 && s.path[0] == "routes" {
			h.Place = e.Place
		}
		return h, true
	}
	if s.value {
		for _, o := range valuesAt(s.path) {
			if o.Label == word {
				h.Title, h.Text = word, o.Info
				return h, true
			}
		}
	}
	return h, false
}

func (d *Document) routeNear(text string, from, to int) int {
	line := strings.LastIndexByte(text[:from], '\n') + 1
	before := strings.Fields(strings.NewReplacer("{", " ", "\"", " ", "'", " ", "[", " ", ",",
		" ").Replace(text[line:from]))
	end := to
	for end < len(text) && strings.IndexByte(" \n,\"'", text[end]) < 0 {
		end++
	}
	start := from
	for start > line && strings.IndexByte(" \"'[", text[start-1]) < 0 {
		start--
	}
	path := strings.TrimRight(text[start:end], " ")
	if !strings.Contains(path, "/") {
		return -1
	}
	if len(before) > 0 {
		if i := d.RouteNamed(before[len(before)-1] + " " + path); i >= 0 {
			return i
		}
	}
	for i, r := range d.Routes {
		if strings.HasSuffix(r.Key(), " "+path) {
			return i
		}
	}
	return -1
}

// singular is what the members of a section are.
func singular(path []string) string {
	if len(path) == 0 {
		return ""
	}
	return map[string]string{"roles": "role", "identities": "identity", "schemes": "scheme", "lifetimes": "lifetime",
		"records": "record", "quotas": "quota", "targets": "target"}[path[0]]
}

func (d *Document) placeOf(kind, name string) Place {
	switch kind {
	case "role":
		if x := d.RoleNamed(name); x != nil {
			return x.Place
		}
	case "identity":
		if x := d.IdentityNamed(strings.TrimPrefix(name, "identity:")); x != nil {
			return x.Place
		}
	case "scheme":
		if x := d.SchemeNamed(name); x != nil {
			return x.Place
		}
	case "lifetime":
		if x := d.LifetimeNamed(name); x != nil {
			return x.Place
		}
	case "record":
		if x := d.RecordNamed(name); x != nil {
			return x.Place
		}
	case "quota":
		if x := d.QuotaNamed(name); x != nil {
			return x.Place
		}
	case "target":
		if x := d.TargetNamed(strings.TrimPrefix(name, "target:")); x != nil {
			return x.Place
		}
	}
	return Place{}
}

// Heading is one line of the outline.
type Heading struct {
	Name  string `json:"name"`
	Line  int    `json:"line"`
	Depth int    `json:"depth"` // 0 for sections
}

// Outline lists the sections of a text and what they declare.
func Outline(text string) []Heading {
	l := layout{text}
	out := []Heading{}
	// Lines are counted once, from the top.
	at, n := 0, 1
	line := func(off int) int {
		n += strings.Count(text[at:off], "\n")
		at = off
		return n
	}
	for _, p := range l.top().parts {
		out = append(out, Heading{p.key, line(p.start), 0})
		b, ok := l.inside(p)
		if !ok || listSections[p.key] && p.key != "access" && p.key != "origins" && p.key != "waivers" {
			continue
		}
		for _, q := range b.parts {
			name := q.key
			if b.list {
				name = l.routeOf(q)
				if m, ok := l.inside(q); ok && name == "" {
					if at, ok := m.find("check"); ok {
						name = l.text[at.val:at.valEnd]
					}
				}
			}
			if name != "" {
				out = append(out, Heading{name, line(q.start), 1})
			}
		}
	}
	return out
}
