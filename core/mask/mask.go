// Package mask takes secrets out of what was sent and answered, and keeps everything
// else as it was: what is judged afterwards must be judged as if nothing were hidden.
//
// # What is hidden
//
// A secret that is known (Set.With) is found in any text, plain or in the encodings in
// which it travels: percent-encoding in any letter case, once or twice, form encoding,
// JSON escapes, HTML entities, base64 and base64url at all three alignments, and two of
// these around each other. A secret of under six characters would take ordinary words
// apart, so it is hidden only where it is a whole value. What nobody knew is hidden
// where it looks like a token (a JWS) or is the value of a member, parameter or header
// field whose name says so (Named).
//
// # What stays
//
// Where a text parses as JSON only strings are rewritten, in place: the bytes around
// them stay, so that it parses as before, with the same pointers. A number, true or
// false is replaced, by a string, where it is the whole secret and not where it only
// contains one. Member names are never changed.
//
// # Marks
//
// In the place of a secret stands ‹kind:digest›: eight bytes of HMAC-SHA256 (RFC 2104)
// of the decoded secret under a key of the workspace, so that equal marks are equal
// secrets and nothing can be guessed from one without the key. A secret of under eight
// characters could be, by whoever has the key: it gets a number within the fact, and so
// does one that was found by its name or place alone. Numbers say nothing across facts:
// Numbered tells them. Plain writes marks for people, without digest and number.
//
// Rule: No secret is kept or shown, and all else stays as it was.
package mask

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Kind is the word in a mark.
type Kind string

// The kinds.
const (
	Secret    Kind = "secret"
	Token     Kind = "token"
	Cookie    Kind = "cookie"
	Signature Kind = "signature"
	Named     Kind = "named" // known by its name alone
)

// Everywhere is from which length on a secret is hidden inside other text, in bytes.
const Everywhere = 6

const (
	digested = 8 // from this length on its mark has a digest
	cutFrom  = 4 // as much of a secret at the cut end of a text is hidden
)

// Set is the secrets that are known. It never changes: With makes another. The zero
// Set knows none, and gives no digest.
type Set struct {
	key     []byte
	secrets []secret
	words   map[string]int    // whole values, to their secret
	forms   map[uint32][]form // by their first four bytes
	filter  *[1 << 13]byte    // which first four bytes there are, hashed
	spaces  bool              // one has a space, which a form writes as +
	short   bool              // one is shorter than Everywhere
}

type secret struct {
	text   string
	digest string // "" where it is short, or there is no key
	mark   string // "" where it gets a number
	kind   Kind
}

// form is a secret in one of its base64 forms, or as it is. Of base64 the characters
// before and after may hold a part of it as well.
type form struct {
	text        string
	secret      int
	left, right bool
}

// NewSet returns a set that knows nothing and makes digests with a key.
func NewSet(key []byte) *Set { return &Set{key: slices.Clone(key)} }

// With is the set with more secrets of a kind; itself where none is new. Empty ones
// are no secrets.
func (s *Set) With(kind Kind, secrets ...string) *Set {
	var fresh []string
	for _, x := range secrets {
		if x != "" && !s.knows(x) && !slices.Contains(fresh, x) {
			fresh = append(fresh, x)
		}
	}
	if len(fresh) == 0 {
		return s
	}
	out := s.clone()
	for _, x := range fresh {
		out.learn(secret{text: x, kind: kind})
	}
	out.marks(len(s.secrets))
	return out
}

func (s *Set) knows(text string) bool {
	_, ok := s.words[text]
	return ok
}

// clone is a set that may learn more without changing this one. Lists of forms are shared
// until one grows.
func (s *Set) clone() *Set {
	out := *s
	out.secrets = slices.Clone(s.secrets)
	if out.words, out.forms = maps.Clone(s.words), maps.Clone(s.forms); out.words == nil {
		out.words, out.forms = map[string]int{}, map[uint32][]form{}
	}
	out.filter = new([1 << 13]byte)
	if s.filter != nil {
		*out.filter = *s.filter
	}
	return &out
}

// learn puts a secret into the tables.
func (s *Set) learn(x secret) {
	i := len(s.secrets)
	if len(x.text) >= digested && s.key != nil {
		x.digest = s.digest(x.text)
	}
	s.secrets = append(s.secrets, x)
	s.words[x.text] = i
	if len(x.text) < Everywhere {
		s.short = true
		return
	}
	s.spaces = s.spaces || strings.Contains(x.text, " ")
	s.add(form{text: x.text, secret: i})
	for _, f := range based(x.text) {
		f.secret = i
		s.add(f)
	}
}

// marks gives marks to the secrets from the known-th on, and others to those before in
// whose marks one of these shows. A mark must not show a secret itself: one whose word or
// digest has one gets another word and a number.
func (s *Set) marks(known int) {
	all := s.secrets
	for i := range all {
		x := &all[i]
		if i < known && !show(all[known:], string(x.kind)) && !show(all[known:], x.digest) {
			continue
		}
		x.kind, x.mark = s.word(x.kind), ""
		if x.digest != "" && !show(all, x.digest) {
			x.mark = "‹" + string(x.kind) + ":" + x.digest + "›"
		}
	}
}

// word is the kind, or one in whose place no secret shows.
func (s *Set) word(k Kind) Kind {
	for _, w := range []Kind{k, Secret, "hidden", "x"} {
		if !show(s.secrets, string(w)) {
			return w
		}
	}
	return ""
}

// show says whether one of some secrets shows in a text.
func show(list []secret, text string) bool {
	return slices.ContainsFunc(list, func(x secret) bool {
		return len(x.text) >= Everywhere && strings.Contains(text, x.text)
	})
}

func (s *Set) digest(text string) string {
	h := hmac.New(sha256.New, s.key)
	h.Write([]byte(text))
	return hex.EncodeToString(h.Sum(nil)[:8])
}

func first4(t string) uint32 {
	return uint32(t[0]) | uint32(t[1])<<8 | uint32(t[2])<<16 | uint32(t[3])<<24
}

func slot(k uint32) (int, byte) {
	h := k * 2654435761 >> 16 // Knuth's multiplicative hash
	return int(h >> 3), 1 << (h & 7)
}

func (s *Set) add(x form) {
	k := first4(x.text)
	for _, f := range s.forms[k] {
		if f.text == x.text {
			return
		}
	}
	// The longest first, so that no part of one stays. Another set may share the list.
	at := slices.IndexFunc(s.forms[k], func(f form) bool { return len(f.text) < len(x.text) })
	if at < 0 {
		at = len(s.forms[k])
	}
	s.forms[k] = slices.Insert(slices.Clone(s.forms[k]), at, x)
	n, bit := slot(k)
	s.filter[n] |= bit
}

// based are the texts that stand in the base64 and base64url of anything that contains
// a secret: at each of the three alignments the characters that it decides alone.
func based(text string) (out []form) {
	for _, enc := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		for before := range 3 {
			e := enc.EncodeToString(append(make([]byte, before), text...))
			from := (before*8 + 5) / 6
			to := (before + len(text)) * 8 / 6
			if len(e[from:to]) >= Everywhere {
				out = append(out, form{text: e[from:to], left: before > 0, right: (before+len(text))%3 != 0})
			}
		}
	}
	return out
}

// Masking masks what belongs to one fact: numbers of marks count within it. It is not
// for concurrent use.
type Masking struct {
	set     *Set
	numbers map[string]int
}

// Begin begins a fact.
func (s *Set) Begin() *Masking { return &Masking{set: s, numbers: map[string]int{}} }

// Use goes on with a set that knows more. Marks of before stay as they are.
func (m *Masking) Use(s *Set) { m.set = s }

// markOf is the mark of a known secret.
func (m *Masking) markOf(i int) string {
	if x := m.set.secrets[i]; x.mark != "" {
		return x.mark
	}
	return m.numbered(m.set.secrets[i].kind, m.set.secrets[i].text)
}

// markFor is the mark of a text that is a secret by its looks, name or place.
func (m *Masking) markFor(kind Kind, text string) string {
	if i, ok := m.set.words[text]; ok {
		return m.markOf(i)
	}
	return m.numbered(m.set.word(kind), text)
}

func (m *Masking) numbered(kind Kind, text string) string {
	n, ok := m.numbers[text]
	if !ok {
		n = len(m.numbers) + 1
		m.numbers[text] = n
	}
	return "‹" + string(kind) + ":" + strconv.Itoa(n) + "›"
}

var (
	marks    = regexp.MustCompile(`‹([a-z]*):[0-9a-f]+›`)
	numbered = regexp.MustCompile(`‹[a-z]*:[0-9]{1,7}›`)
)

// Plain writes the marks of a text for people: ‹kind›.
func Plain(text string) string {
	if !strings.Contains(text, "‹") {
		return text
	}
	return marks.ReplaceAllString(text, "‹$1›")
}

// Numbered says whether a text has a mark that says nothing outside its fact: two texts
// with it that are equal need not have been.
func Numbered(text string) bool { return strings.Contains(text, "‹") && numbered.MatchString(text) }

// Has says whether a text may have a mark.
func Has(text string) bool { return strings.Contains(text, "‹") }

// Without is a text with nothing in the place of its marks, for who looks in it for
// what a service wrote.
func Without(text string) string {
	if !strings.Contains(text, "‹") {
		return text
	}
	return marks.ReplaceAllString(text, "\x00")
}

// Within are those of some texts that stand in a raw one: a note for rules that what is
// masked cannot answer.
func Within(raw string, texts []string) (out []string) {
	for _, t := range texts {
		if t != "" && strings.Contains(raw, t) {
			out = append(out, t)
		}
	}
	return out
}

// Cut is at most the first n bytes of a masked text. It goes through no mark and no
// character.
func Cut(text string, n int) string {
	if len(text) <= n {
		return text
	}
	if i := strings.LastIndex(text[:n], "‹"); i >= 0 && n-i < 64 {
		if at := marks.FindStringIndex(text[i:]); at != nil && at[0] == 0 && i+at[1] > n {
			n = i
		}
	}
	for n > 0 && text[n]&0xC0 == 0x80 {
		n--
	}
	return text[:n]
}

// Unnumbered is a text whose numbered marks are without their number, as ‹kind›: what
// compares the texts of different facts must not see it.
func Unnumbered(text string) string {
	if !strings.Contains(text, "‹") {
		return text
	}
	return numbered.ReplaceAllStringFunc(text, func(m string) string { return m[:strings.IndexByte(m, ':')] + "›" })
}

var anonymous = regexp.MustCompile(`‹[a-z]*›|····`) // ···· is what stood there before marks

// Anonymous says whether a text has a mark that does not tell which secret it stands
// for: that two such texts are equal says nothing.
func Anonymous(text string) bool { return anonymous.MatchString(text) || Numbered(text) }
