package mask

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"math/rand/v2"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"millgate/core/field"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var testKey = []byte("a key of the tests")

func TestWhatIsMasked(t *testing.T) {
	s := NewSet(testKey).With(Secret, `p"ss w/rd`, "hunter22", "longer-than-this", "longer-than", "1234",
		"zäöü-zäöü").With(Token, "tok-aaaaaaaa")
	long, longer := s.Begin().Text("hunter22", false), s.Begin().Text("longer-than-this", false)
	require.Regexp(t, `^‹secret:[0-9a-f]{16}›$`, long)
	for text, want := range map[string]string{
		`{"id":9123456,"pin":1234,"s":"1234"}`: `{"id":9123456,"pin":"‹secret:1›","s":"‹secret:1›"}`,
		`{"text":"pin 1234 is in it"}`:         `{"text":"pin 1234 is in it"}`,
		`{"hunter22":"a hunter22 b"}`:          `{"hunter22":"a ` + long + ` b"}`,
		`{"a":"p\"ss w\/rd","b":"p\u0022ss w/rd"}`: `{"a":"` + s.secrets[0].mark + `","b":"` +
			s.secrets[0].mark + `"}`,
		`{"a":"z\u00e4\u00f6\u00fc-z\u00e4\u00f6ü"}`: `{"a":"` + s.secrets[5].mark + `"}`,
		`{"url":"/x?sig=abc&n=1","z":"p%22ss%20w%2frd end"}`: `{"url":"/x?sig=‹named:1›&n=1","z":"` +
			s.secrets[0].mark + ` end"}`,
		"longer-than-this":                           longer,
		"hunter2%32 &#104;unter22 x":                 long + " " + long + " x",
		"hunter2%2532":                               long,
		"p%22ss+w%2Frd":                              s.secrets[0].mark,
		`{"password":"x","access_token":123}`:        `{"password":"‹named:1›","access_token":"‹named:2›"}`,
		`{"password":null,"secret":true}`:            `{"password":null,"secret":true}`,
		`{"password":["a"],"b":{"password":""}}`:     `{"password":["a"],"b":{"password":""}}`,
		`{"password":"hunter22"}`:                    `{"password":"` + long + `"}`,
		"token eyJhbGciOiJIUzI1NiJ9.e30.AA end":      "token ‹token:1› end",
		`log: {"password":"x", "secret": "", "n": 1`: `log: {"password":"‹named:1›", "secret": "", "n": 1`,
		"nothing here":                               "nothing here",
		"":                                           "",
		base64.StdEncoding.EncodeToString([]byte("xx:hunter22")): "eHg6" + long + "=",
	} {
		assert.Equal(t, want, s.Begin().Body(text, "", false), text)
	}
	assert.Equal(t, "/a/‹secret:1›/b?pin=‹secret:1›&q=12345", s.Begin().URL("/a/1234/b?pin=1234&q=12345"))
	assert.Equal(t, "pin=‹secret:1›&x=11234", s.Begin().Body("pin=123%34&x=11234", "application/x-www-form-urlencoded",
		false))
	assert.Equal(t, "<b>‹secret:1›</b>1234 x<i>12345</i>", s.Begin().Body("<b> 1234 </b>1234 x<i>12345</i>",
		"text/html; charset=utf-8", false))
	assert.Equal(t, `{"a":"x `+long, s.Begin().Body(`{"a":"x hunte`, "", true), "a secret that the end was cut from")
	assert.Equal(t, `{"a":"x hun`, s.Begin().Body(`{"a":"x hun`, "", true), "too little of it to tell")
	assert.Equal(t, `a `+long, s.Begin().Body(`a hunter%3`, "", true), "the cut went through an escape")
	h := s.Begin().Headers([][2]string{{"Authorization", "Bearer tok-aaaaaaaa"}, {"authorization", "xyz"},
		{"Cookie", "sid=1; b=hunter22"},
		{"Set-Cookie", "sid=secret; HttpOnly"}, {"X-Key", "hunter22"}, {"X-Pin", "1234"}})
	tok := s.secrets[6].mark
	assert.Equal(t, field.List{{"Authorization", "Bearer " + tok}, {"authorization", "‹token:1›"},
		{"Cookie", "sid=‹cookie:2›; b=" + long},
		{"Set-Cookie", "sid=‹cookie:3›; HttpOnly"}, {"X-Key", long}, {"X-Pin", "‹secret:4›"}}, h)
	// A secret in an address ends where the address does.
	for text, want := range map[string]string{
		`<a href='/f?sig=abc'>frame</a> of imre`: `<a href='/f?sig=‹named:1›'>frame</a> of imre`,
		`[{"l":"/f?signature=abc"},{"l":"/g"}]`:  `[{"l":"/f?signature=‹named:1›"},{"l":"/g"}]`,
		`{"l":"\"/f?sig=abc\" is next"}`:         `{"l":"\"/f?sig=‹named:1›\" is next"}`,
		`/f?api_key=abc#top`:                     `/f?api_key=‹named:1›#top`,
		`{"design=": "x", "l": "a?design=abc"}`:  `{"design=": "x", "l": "a?design=abc"}`,
	} {
		assert.Equal(t, want, s.Begin().Text(text, false))
	}
	assert.Equal(t, "a ‹secret› b ‹cookie›", Plain("a "+long+" b ‹cookie:3›"))
	assert.True(t, Numbered("x ‹cookie:3›"))
	assert.False(t, Numbered(long))
	assert.Equal(t, "x ‹cookie› "+long, Unnumbered("x ‹cookie:3› "+long))
	assert.True(t, Anonymous("x ‹cookie›") && Anonymous("‹cookie:3›") && Anonymous("····"))
	assert.False(t, Anonymous(long) || Anonymous("plain"))
	assert.Equal(t, "a \x00 b", Without("a "+long+" b"))
	assert.Equal(t, []string{"b"}, Within("abc", []string{"b", "x", ""}))
	for n := range 40 {
		c := Cut("äöü "+long+" end", n)
		assert.True(t, len(c) <= n && utf8.ValidString(c), c)
		assert.Equal(t, strings.Contains(c, "‹"), strings.Contains(c, "›"), c)
	}
	assert.Same(t, s, s.With(Token, "hunter22", ""), "nothing is new")
	var zero Set
	assert.Equal(t, "hunter22", zero.Begin().Text("hunter22", false))
	assert.Equal(t, "‹secret:1›", zero.With(Secret, "hunter22").Begin().Text("hunter22", false),
		"without a key there is no digest")
	assert.NotContains(t, NewSet(testKey).With(Cookie, "cookie", "secret").Begin().Text("a cookie b", false), "cookie",
		"no mark shows a secret")
}

// encodings are the ways in which a secret travels, made with other code than that which
// reads them.
var encodings = []func(r *rand.Rand, s string) string{
	func(_ *rand.Rand, s string) string { return s },
	func(_ *rand.Rand, s string) string { return url.QueryEscape(s) },
	func(_ *rand.Rand, s string) string { return url.PathEscape(s) },
	func(_ *rand.Rand, s string) string { return url.QueryEscape(url.QueryEscape(s)) },
	hexed("%%%02X"), hexed("%%%02x"),
	func(_ *rand.Rand, s string) string { return html.EscapeString(s) },
	func(_ *rand.Rand, s string) string {
		var b strings.Builder
		for _, c := range s {
			fmt.Fprintf(&b, "&#x%x;", c)
		}
		return b.String()
	},
	func(_ *rand.Rand, s string) string { // each character as \uXXXX, in either letter case
		var b strings.Builder
		for i, c := range s {
			fmt.Fprintf(&b, []string{`\u%04x`, `\u%04X`}[i%2], c)
		}
		return b.String()
	},
	func(_ *rand.Rand, s string) string {
		b, _ := json.Marshal(s)
		return strings.ReplaceAll(string(b[1:len(b)-1]), "/", `\/`)
	},
	based64(base64.StdEncoding), based64(base64.URLEncoding), based64(base64.RawStdEncoding),
	based64(base64.RawURLEncoding),
}

func hexed(format string) func(r *rand.Rand, s string) string {
	return func(_ *rand.Rand, s string) string {
		var b strings.Builder
		for i := range len(s) {
			fmt.Fprintf(&b, format, s[i])
		}
		return b.String()
	}
}

func based64(e *base64.Encoding) func(r *rand.Rand, s string) string {
	return func(r *rand.Rand, s string) string {
		return e.EncodeToString([]byte(strings.Repeat("k", r.IntN(4)) + s + strings.Repeat("k", r.IntN(4))))
	}
}

var (
	percents = regexp.MustCompile(`%[0-9A-Fa-f]{2}`)
	escaped  = regexp.MustCompile(`\\(u[0-9A-Fa-f]{4}|["\\/])`)
)

// readings are what others read in a text: decoded once and twice.
func readings(s string) []string {
	read := []func(string) string{
		func(s string) string { // leniently, where url.PathUnescape gives up
			return percents.ReplaceAllStringFunc(s, func(x string) string { y, _ := url.PathUnescape(x); return y })
		},
		html.UnescapeString,
		func(s string) string {
			return escaped.ReplaceAllStringFunc(s, func(x string) string {
				var y string
				if json.Unmarshal([]byte(`"`+x+`"`), &y) != nil {
					return x
				}
				return y
			})
		},
	}
	out := []string{s}
	if !strings.ContainsAny(s, `%&\`) {
		return out
	}
	for _, f := range read {
		out = append(out, f(s))
		for _, g := range read {
			out = append(out, g(f(s)))
		}
	}
	return out
}

type drawn struct {
	secrets []string
	names   []string // of members; some are secrets, or contain one
	ids     []string // some contain a secret
}

func draw(r *rand.Rand) drawn {
	alphabets := []string{"abcdefgh0123456789", "0123456789", `aA"\/&<>% +=ö'`, "ABCDEFGHIJKLMNOPQRSTUVWXYZ-_"}
	text := func(n int) string {
		a := []rune(alphabets[r.IntN(len(alphabets))])
		var b strings.Builder
		for range n {
			b.WriteRune(a[r.IntN(len(a))])
		}
		return b.String()
	}
	d := drawn{names: []string{"id", "name", "token_type", "pin", "deep"}}
	for range 1 + r.IntN(4) {
		d.secrets = append(d.secrets, text(1+r.IntN(24)))
	}
	d.secrets = append(d.secrets, text(6+r.IntN(20)))
	one := d.secrets[len(d.secrets)-1]
	if r.IntN(3) == 0 { // a part of another
		d.secrets = append(d.secrets, one[:len(one)*2/3])
	}
	if r.IntN(3) == 0 { // words that stand in names
		d.secrets = append(d.secrets, "token_type")
		d.names = append(d.names, "my_token_type")
	}
	for i, s := range d.secrets {
		d.secrets[i] = strings.ToValidUTF8(s, "x")
	}
	d.names = append(d.names, one)
	d.ids = []string{"f-102", "9" + d.secrets[0], one + "-1"}
	return d
}

// value draws a JSON value in which secrets stand in some encoding, as raw JSON.
func (d drawn) value(r *rand.Rand, depth int) string {
	quote := func(s string) string {
		b, _ := json.Marshal(s)
		if r.IntN(2) == 0 {
			return strings.ReplaceAll(string(b), "/", `\/`)
		}
		return string(b)
	}
	switch n := r.IntN(10); {
	case n < 2 && depth < 3:
		var parts []string
		seen := map[string]bool{}
		for range 1 + r.IntN(4) {
			if name := d.names[r.IntN(len(d.names))]; !seen[name] {
				seen[name] = true
				parts = append(parts, quote(name)+":"+d.value(r, depth+1))
			}
		}
		return "{" + strings.Join(parts, ", ") + "}"
	case n < 3 && depth < 3:
		return "[" + d.value(r, depth+1) + "," + d.value(r, depth+1) + " ]"
	case n == 4:
		return fmt.Sprint(r.IntN(100000000))
	case n == 5:
		if _, err := json.Marshal(json.Number(d.secrets[0])); err == nil && json.Valid([]byte(d.secrets[0])) {
			return d.secrets[0] // a number that is the whole secret
		}
		return "true"
	case n == 6:
		return quote(d.ids[r.IntN(len(d.ids))])
	}
	s := d.secrets[r.IntN(len(d.secrets))]
	return quote([]string{"", "see ", "/f?x="}[r.IntN(3)] + encodings[r.IntN(len(encodings))](r, s) + []string{"",
		" there", "&n=1"}[r.IntN(3)])
}

// No secret of six characters or more survives in a string, in any encoding; everything
// else stays as it was.
func TestStructureIsKept(t *testing.T) {
	cases := 10000
	if testing.Short() {
		cases = 500
	}
	masked := 0
	for seed := range uint64(cases) {
		r := rand.New(rand.NewPCG(seed, 1))
		d := draw(r)
		set := NewSet(testKey).With(Secret, d.secrets...)
		body := `{"v":` + d.value(r, 0) + `,"w":` + d.value(r, 0) + `}`
		require.True(t, json.Valid([]byte(body)), body)
		got := set.Begin().Body(body, "application/json", false)
		why := fmt.Sprintf("seed %d, secrets %q\n%s\n%s", seed, d.secrets, body, got)
		require.True(t, json.Valid([]byte(got)), why)
		var a, b any
		decode(t, body, &a)
		decode(t, got, &b)
		compare(t, d, a, b, why)
		if got != body {
			masked++
		}
		unmarked(t, body, got, why)
		// As text, and cut somewhere.
		at := r.IntN(len(body))
		cut := set.Begin().Body(body[:at], "", true)
		survive(t, d, cut, why+"\ncut: "+cut)
		require.Equal(t, body[:at] == cut, !strings.Contains(cut, "‹"), why)
		survive(t, d, set.Begin().URL("http://127.0.0.1/"+url.PathEscape(d.secrets[0])+"?q="+
			url.QueryEscape(d.secrets[len(d.secrets)-1])), why)
		for _, h := range set.Begin().Headers([][2]string{{"X-A", body}, {"Cookie", "a=" + d.secrets[0]},
			{"Authorization", "Bearer " + d.secrets[0]}}) {
			survive(t, d, h[1], why)
		}
	}
	assert.Greater(t, masked, cases/2, "most of them had a secret")
}

func decode(t *testing.T, text string, into any) {
	dec := json.NewDecoder(strings.NewReader(text))
	dec.UseNumber()
	require.NoError(t, dec.Decode(into))
}

// compare holds a masked value against what it was.
func compare(t *testing.T, d drawn, was, is any, why string) {
	whole := func(s string) bool {
		for _, x := range d.secrets {
			if x == s {
				return true
			}
		}
		return false
	}
	switch a := was.(type) {
	case map[string]any:
		b, ok := is.(map[string]any)
		require.True(t, ok && len(a) == len(b), why)
		for k := range a {
			require.Contains(t, b, k, why)
			compare(t, d, a[k], b[k], why)
		}
	case []any:
		b, ok := is.([]any)
		require.True(t, ok && len(a) == len(b), why)
		for i := range a {
			compare(t, d, a[i], b[i], why)
		}
	case string:
		b, ok := is.(string)
		require.True(t, ok, why)
		survive(t, d, b, why)
		if whole(a) {
			require.NotEqual(t, a, b, why)
			require.Regexp(t, `^‹[a-z]+:[0-9a-f]+›$`, b, why)
		}
	default:
		if text := fmt.Sprint(was); whole(text) {
			require.Regexp(t, `^‹[a-z]+:[0-9a-f]+›$`, is, why)
		} else {
			require.Equal(t, was, is, "a number or word stays: "+why)
		}
	}
}

func survive(t *testing.T, d drawn, text, why string) {
	bare := marks.ReplaceAllString(text, "\x00")
	for _, s := range d.secrets {
		if len(s) < Everywhere {
			continue
		}
		for _, x := range readings(bare) {
			require.NotContains(t, x, s, why)
		}
		for before := range 3 {
			e := base64.StdEncoding.EncodeToString([]byte(strings.Repeat("k", before) + s))
			core := e[(before*8+5)/6 : (before+len(s))*8/6]
			require.NotContains(t, bare, core, "base64: "+why)
		}
	}
}

// unmarked checks that what stands between marks stood there before, in that order.
func unmarked(t *testing.T, was, is, why string) {
	pieces := regexp.MustCompile(`"?‹[a-z]+:[0-9a-f]+›"?`).Split(is, -1)
	require.True(t, strings.HasPrefix(was, pieces[0]) && strings.HasSuffix(was, pieces[len(pieces)-1]), why)
	rest := was
	for _, p := range pieces {
		i := strings.Index(rest, p)
		require.GreaterOrEqual(t, i, 0, why)
		rest = rest[i+len(p):]
	}
}

func BenchmarkBody(b *testing.B) {
	set := NewSet(testKey)
	for i := range 60 {
		set = set.With(Token, fmt.Sprintf("access-token-%d-%d", i, i*7919))
	}
	body := `{"items":[` + strings.Repeat(`{"id":"f-102","owner":"imre","title":"A frame of the night","url":"/v1/frames/f-102?n=1"},`, 20) + `{}]}`
	b.SetBytes(int64(len(body)))
	b.ReportAllocs()
	for b.Loop() {
		set.Begin().Body(body, "application/json", false)
	}
}

// Of secrets that overlap the longest known one gives its mark, whichever comes first.
func TestOverlappingSecrets(t *testing.T) {
	s := NewSet([]byte("key")).With(Token, "the-long-secret").With(Signature, "secret-of-ann")
	mark := func(kind Kind, secret string) string { return "‹" + string(kind) + ":" + s.digest(secret) + "›" }
	long, short := mark(Token, "the-long-secret"), mark(Signature, "secret-of-ann")
	require.NotEqual(t, long, short)
	assert.Equal(t, "a "+long+" b", s.Begin().Text("a the-long-secret-of-ann b", false))
	s = NewSet([]byte("key")).With(Signature, "secret-of-ann").With(Token, "of-ann-and-of-bob-too")
	assert.Equal(t, "a "+mark(Token, "of-ann-and-of-bob-too")+" b",
		s.Begin().Text("a secret-of-ann-and-of-bob-too b", false), "the later is longer")
}

// A fact that goes on with a set that knows more keeps the marks that it made.
func TestAFactGoesOnWithWhatIsLearnt(t *testing.T) {
	s := NewSet([]byte("key"))
	m := s.Begin()
	assert.Equal(t, `{"password":"‹named:1›"}`, m.Body(`{"password":"hunter22hunter"}`, "application/json", false))
	m.Use(s.With(Token, "another-secret"))
	assert.Equal(t, `{"password":"‹named:1›","n":"‹token:`+s.digest("another-secret")+`›"}`,
		m.Body(`{"password":"hunter22hunter","n":"another-secret"}`, "application/json", false))
}

// A mark must not show a secret: neither by its word nor by its digest.
func TestAMarkShowsNoSecret(t *testing.T) {
	s := NewSet([]byte("key")).With(Token, "a-long-secret")
	digest := s.digest("a-long-secret")
	for _, secret := range []string{"secret", "signature", digest[:6]} {
		got := s.With(Signature, secret).With(Token, "password").Begin().Text("x "+secret+" a-long-secret y", false)
		assert.NotContains(t, got, secret)
		assert.NotContains(t, got, "a-long")
		assert.Contains(t, got, "x ‹")
	}
}

func TestWhatIsSaidOfMarks(t *testing.T) {
	assert.Equal(t, "a ‹token› b ‹x›", Plain("a ‹token:00ff› b ‹x:12›"))
	assert.Equal(t, "plain", Plain("plain"))
	assert.Equal(t, "a \x00 b", Without("a ‹token:00ff› b"))
	assert.Equal(t, "a ‹token:00ff00ff00ff00ff› ‹named›", Unnumbered("a ‹token:00ff00ff00ff00ff› ‹named:3›"))
	assert.True(t, Numbered("‹named:3›"))
	assert.False(t, Numbered("‹token:00ff00ff00ff00ff›"))
	assert.True(t, Anonymous("‹token›"))
	assert.True(t, Anonymous("····"), "as it stood there before marks")
	assert.False(t, Anonymous("‹token:00ff00ff00ff00ff›"))
	assert.Equal(t, []string{"b"}, Within("a b", []string{"", "b", "c"}))
}

// Characters beyond the first plane are two escapes in JSON (RFC 8259 section 7); one that
// stands alone is none. A form writes a space as + and the rest by percent.
func TestEscapesOfSecrets(t *testing.T) {
	s := NewSet([]byte("key")).With(Token, "pass😀word é1").With(Signature, "a secret & word")
	mark, form := "‹token:"+s.digest("pass😀word é1")+"›", "‹signature:"+s.digest("a secret & word")+"›"
	for _, text := range []string{`pass\ud83d\ude00word é1`, `pass\uD83D\uDE00word \u00e91`, `pass😀word\u0020\u00E91`} {
		assert.Equal(t, `{"n":"`+mark+`"}`, s.Begin().Body(`{"n":"`+text+`"}`, "application/json", false), text)
	}
	for _, text := range []string{`pass\ud83d\u0041word é1`, `pass\ud83dword é1`, `pass\ude00\ud83dword é1`} {
		body := `{"n":"` + text + `"}`
		assert.Equal(t, body, s.Begin().Body(body, "application/json", false), "it is another text")
	}
	for _, text := range []string{"a+secret+%26+word", "a%20secret+%26%20word", "a+secret+&amp;+word"} {
		assert.Equal(t, "x="+form+"&y=1", s.Begin().Body("x="+text+"&y=1", "application/x-www-form-urlencoded", false),
			text)
	}
	assert.Equal(t, "x=a+secret%2&y=1", s.Begin().Body("x=a+secret%2&y=1", "application/x-www-form-urlencoded", false))
}
