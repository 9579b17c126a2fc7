package wire

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
)

// shelf is a service with things that are made and taken away. Its tokens can end.
type shelf struct {
	mu     sync.Mutex
	logins int
	ended  map[string]bool
	things map[string]bool
	calls  []string
	refuse map[string]int // by method and path, what it answers in place of doing it
}

func (s *shelf) answers(call string, status int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refuse[call] = status
}

func (s *shelf) serve(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.calls = append(s.calls, r.Method+" "+r.URL.Path)
	if n := s.refuse[r.Method+" "+r.URL.Path]; n != 0 {
		w.WriteHeader(n)
		return
	}
	if r.URL.Path == "/in" {
		s.logins++
		_, _ = fmt.Fprintf(w, `{"t":"access-token-%d"}`, s.logins)
		return
	}
	token := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !strings.HasPrefix(token, "access-token-") || s.ended[token] {
		w.WriteHeader(401)
		return
	}
	switch name := r.URL.Path[1:]; r.Method {
	case "POST":
		s.things[name] = true
		w.WriteHeader(201)
		_, _ = fmt.Fprintf(w, `{"id":%q}`, name)
	case "DELETE":
		if !s.things[name] {
			w.WriteHeader(404)
		}
		delete(s.things, name)
	}
}

func newShelf(t *testing.T) (*shelf, Runner) {
	t.Helper()
	s := &shelf{ended: map[string]bool{}, things: map[string]bool{}, refuse: map[string]int{}}
	d, msgs := declaration.Parse("x", []byte(fmt.Sprintf(`millgate: 1
targets: { t: { base: %s } }
routes: [GET /a]
schemes: { s: { kind: bearer, login: { send: POST /in, json: { p: "{p}" }, take: { access: /t } } } }
identities: { ann: { credentials: { s: { p: kept:P } } } }
`, server(t, s.serve).URL)), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	tg := d.TargetNamed("t")
	tg.Pace = declaration.Pace{Count: 10000, Per: time.Second}
	k := NewKeyring(d, tg, client(t, tg), func(declaration.Value) (string, error) { return "pass-phrase-1", nil })
	return s, Runner{Keys: k}
}

var ann = []check.Present{{Caller: check.Caller{Identity: "ann", Scheme: "s", State: access.Sound}}}

func one(c check.Call) check.Script { return check.Tell(func(t *check.Telling) { t.One(c) }) }

func get(c check.Call) check.Call {
	c.Name, c.Effect = "get", check.Safe
	c.Request = check.Request{Method: "GET", Path: "/a"}
	return c
}

// A credential that ended is renewed once for what must be admitted, and for nothing else.
func TestRenewedOnce(t *testing.T) {
	ctx := context.Background()
	s, r := newShelf(t)
	f, err := r.Run(ctx, one(get(check.Call{As: ann, Must: true})))
	require.NoError(t, err)
	assert.Equal(t, []int{200, 0, 1}, []int{f.Reports[0].Exchange.Status, f.Reports[0].Repeats, s.logins})

	s.ended["access-token-1"] = true
	f, err = r.Run(ctx, one(get(check.Call{As: ann})))
	require.NoError(t, err)
	assert.Equal(t, []int{401, 1}, []int{f.Reports[0].Exchange.Status, s.logins}, "a refusal is an answer")
	f, err = r.Run(ctx, one(get(check.Call{As: ann, Must: true})))
	require.NoError(t, err)
	assert.Equal(t, []int{200, 1, 2}, []int{f.Reports[0].Exchange.Status, f.Reports[0].Repeats, s.logins})

	s.ended["access-token-2"], s.ended["access-token-3"] = true, true
	f, err = r.Run(ctx, one(get(check.Call{As: ann, Must: true})))
	require.NoError(t, err)
	assert.Equal(t, []int{401, 3}, []int{f.Reports[0].Exchange.Status, s.logins}, "once")
	asked := 0
	r.Renews = func(check.Caller, int) bool { asked++; return false }
	_, err = r.Run(ctx, one(get(check.Call{As: ann, Must: true})))
	require.NoError(t, err)
	assert.Equal(t, []int{1, 3}, []int{asked, s.logins}, "one that never worked is not worth it")

	broken := []check.Present{{Caller: check.Caller{Scheme: "s", State: access.Broken}}}
	f, err = r.Run(ctx, one(get(check.Call{As: broken, Must: true})))
	require.NoError(t, err)
	assert.Equal(t, 401, f.Reports[0].Exchange.Status)
}

// making makes a thing that is to be taken away again.
func making(name string) check.Call {
	return check.Call{Name: "make " + name, Request: check.Request{Method: "POST", Path: "/" + name}, As: ann,
		Effect: check.Creates,
		Undo: []check.Call{{Name: "remove " + name, Request: check.Request{Method: "DELETE", Path: "/" + name},
			As: ann, Effect: check.Again}}}
}

// book notes what is owed and what became of it.
type book struct {
	owed   []string
	became map[string]string
}

func (b *book) owe(c check.Call) (func(string), error) {
	b.owed = append(b.owed, c.Name)
	return func(left string) { b.became[c.Name] = left }, nil
}

// What a script made is undone at its end, the last first, however it ended.
func TestWhatIsOwedIsUndone(t *testing.T) {
	for name, c := range map[string]struct {
		refuse map[string]int
		stop   bool
		left   map[string]string
		things []string
	}{
		"undone":   {nil, false, map[string]string{"make x": "", "make y": ""}, nil},
		"given up": {nil, true, map[string]string{"make x": "", "make y": ""}, nil},
		"gone anyway": {map[string]int{"DELETE /x": 404}, false, map[string]string{"make x": "", "make y": ""},
			[]string{"x"}},
		"not removed": {map[string]int{"DELETE /x": 403}, false,
			map[string]string{"make x": "remove x was answered 403", "make y": ""}, []string{"x"}},
		"redirected": {map[string]int{"POST /y": 303}, false, map[string]string{"make x": "", "make y": ""}, nil},
		"not made":   {map[string]int{"POST /y": 422}, false, map[string]string{"make x": "", "make y": ""}, nil},
		"made or not": {map[string]int{"POST /y": 502}, false, map[string]string{"make x": "",
			"make y": "it was answered 502; whether it made something is not known"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			s, r := newShelf(t)
			s.refuse = c.refuse
			b := &book{became: map[string]string{}}
			r.Owe = b.owe
			r.Intend = func(c check.Call) error {
				assert.True(t, strings.HasPrefix(c.Name, "make"), "what only undoes is no intent")
				assert.NotContains(t, s.calls, "POST /"+strings.TrimPrefix(c.Name, "make "),
					"it is on disk before it is sent")
				return nil
			}
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			_, err := r.Run(ctx, check.Tell(func(t *check.Telling) {
				t.One(making("x"))
				t.One(making("y"))
				if c.stop {
					cancel()
				}
				t.One(get(check.Call{As: ann}))
			}))
			assert.Equal(t, c.stop, errors.Is(err, context.Canceled))
			assert.Equal(t, []string{"make x", "make y"}, b.owed)
			assert.Equal(t, c.left, b.became)
			assert.Len(t, s.things, len(c.things))
			var undone []string
			for _, x := range s.calls {
				if strings.HasPrefix(x, "DELETE") {
					undone = append(undone, x)
				}
			}
			if c.refuse["POST /y"] < 400 {
				assert.Equal(t, []string{"DELETE /y", "DELETE /x"}, undone)
			}
		})
	}
}

// A journal that cannot be written keeps what is unsafe back.
func TestNothingUnsafeWithoutItsIntent(t *testing.T) {
	s, r := newShelf(t)
	b := &book{became: map[string]string{}}
	r.Owe = b.owe
	full := errors.New("the disk is full")
	r.Intend = func(check.Call) error { return full }
	_, err := r.Run(context.Background(), one(making("x")))
	require.ErrorIs(t, err, full)
	assert.NotContains(t, s.calls, "POST /x")
	assert.Equal(t, map[string]string{"make x": ""}, b.became, "nothing was made")
	f, err := r.Run(context.Background(), one(get(check.Call{As: ann})))
	require.NoError(t, err)
	assert.Equal(t, 200, f.Reports[0].Exchange.Status)

	stopped := errors.New("stopped")
	r.Room = func(_ context.Context, o Outgoing, as check.Caller) error {
		assert.Equal(t, []string{"GET", "/a", "ann"}, []string{o.Method, o.Path, as.Identity})
		return stopped
	}
	f, err = r.Run(context.Background(), one(get(check.Call{As: ann})))
	require.ErrorIs(t, err, stopped)
	assert.Equal(t, "stopped", f.Cut)
}

// What is made up for a word is the same wherever a script has it, another for another
// word and in another script, and names what is left behind.
func TestMadeUp(t *testing.T) {
	s, r := newShelf(t)
	var left []string
	r.Left = func(l check.Left, name string) { left = append(left, l.What+" "+name) }
	named := check.Request{Method: "GET", Path: "/{n}/{m}/{n}", Fill: map[string]check.Fill{"n": {Made: "nobody"},
		"m": {Made: "other"}}}
	script := check.Tell(func(t *check.Telling) {
		t.Send(check.Call{Name: "twice", Request: named, Effect: check.Safe})
		t.Send(check.Call{Name: "again", Request: named, Effect: check.Safe})
		t.Left(check.Left{What: "account", Made: "nobody"})
	})
	_, err := r.Run(context.Background(), script)
	require.NoError(t, err)
	require.Len(t, s.calls, 2)
	assert.Regexp(t, `^GET /(nobody-[0-9a-f]{16})/other-[0-9a-f]{16}/nobody-[0-9a-f]{16}$`, s.calls[0])
	assert.Equal(t, s.calls[0], s.calls[1])
	parts := strings.Split(s.calls[0], "/")
	assert.Equal(t, parts[1], parts[3])
	assert.Equal(t, []string{"account " + parts[1]}, left)
}

// Who runs it decides whether an answer is one, and hears of each that is.
func TestWhoRunsItWatches(t *testing.T) {
	s, r := newShelf(t)
	var heard []int
	tries := 0
	r.Landed = func(_ check.Call, x check.Exchange) error { heard = append(heard, x.Status); return nil }
	r.Again = func(_ context.Context, o Outgoing, as check.Caller, x check.Exchange, try int) (bool, error) {
		assert.Equal(t, []any{"/a", "ann", tries}, []any{o.Path, as.Identity, try})
		tries++
		if try == 1 {
			s.answers("GET /a", 0)
		}
		return x.Status == 429, nil
	}
	s.answers("GET /a", 429)
	f, err := r.Run(context.Background(), one(get(check.Call{As: ann, Retry: true})))
	require.NoError(t, err)
	assert.Equal(t, []int{200, 2}, []int{f.Reports[0].Exchange.Status, f.Reports[0].Repeats})
	assert.Equal(t, []int{200}, heard, "what is sent again has not landed")

	s.answers("GET /a", 429)
	_, err = r.Run(context.Background(), one(get(check.Call{As: ann})))
	require.NoError(t, err)
	assert.Equal(t, []int{200, 429}, heard, "without Retry a 429 is an answer")
	gaveUp := errors.New("the target answers nothing")
	r.Landed = func(check.Call, check.Exchange) error { return gaveUp }
	b := &book{became: map[string]string{}}
	r.Owe = b.owe
	f, err = r.Run(context.Background(), one(making("x")))
	require.ErrorIs(t, err, gaveUp)
	assert.NotEmpty(t, f.Cut)
	assert.Equal(t, map[string]string{"make x": ""}, b.became, "what is undone is undone whatever is thought of it")
}
