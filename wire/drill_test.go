package wire

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/check/logins"
	"millgate/core/check/sessions"
	"millgate/core/declaration"
	"millgate/core/session"
)

// issuer is a service whose sessions end lingers after they were ended.
type issuer struct {
	mu      sync.Mutex
	lingers time.Duration
	n       int
	of      map[string]int    // token → session
	ended   map[int]time.Time // session → when
	used    map[string]bool
}

func (s *issuer) serve(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var in map[string]string
	_ = json.NewDecoder(r.Body).Decode(&in)
	over := func(token string) bool {
		id, ok := s.of[token]
		at, ended := s.ended[id]
		return !ok || ended && time.Since(at) >= s.lingers
	}
	grant := func(id int) {
		s.n++
		a, f := fmt.Sprintf("access-secret-%d", s.n), fmt.Sprintf("refresh-secret-%d", s.n)
		s.of[a], s.of[f] = id, id
		_, _ = fmt.Fprintf(w, `{"t":%q,"r":%q,"expires_in":300}`, a, f)
	}
	switch r.URL.Path {
	case "/in":
		if in["p"] != "pass-phrase-1" {
			w.WriteHeader(401)
			return
		}
		s.n++
		grant(s.n)
	case "/again":
		id, ok := s.of[in["r"]]
		if _, ended := s.ended[id]; !ok || ended || s.used[in["r"]] {
			if s.used[in["r"]] {
				s.ended[id] = time.Now()
			}
			w.WriteHeader(401)
			return
		}
		s.used[in["r"]] = true
		grant(id)
	case "/out":
		id, ok := s.of[in["r"]]
		if !ok {
			w.WriteHeader(400)
			return
		}
		s.ended[id] = time.Now()
		w.WriteHeader(204)
	default:
		if over(strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")) {
			w.WriteHeader(401)
		}
	}
}

func TestDrill(t *testing.T) {
	for name, c := range map[string]struct {
		lingers  time.Duration
		outlived bool
	}{"ended at once": {0, false}, "a while later": {400 * time.Millisecond, false}, "never": {time.Hour, true}} {
		t.Run(name, func(t *testing.T) {
			i := &issuer{lingers: c.lingers, of: map[string]int{}, ended: map[int]time.Time{}, used: map[string]bool{}}
			s := server(t, i.serve)
			d, msgs := declaration.Parse("x", []byte(fmt.Sprintf(`millgate: 1
targets: { t: { base: %s } }
routes: [GET /a]
schemes:
  s:
    kind: bearer
    login: { send: POST /in, json: { p: "{p}" }, take: { access: /t, refresh: /r } }
    refresh: { send: POST /again, json: { r: "{refresh}" }, take: { access: /t, refresh: /r } }
    logout: { send: POST /out, json: { r: "{refresh}" } }
identities: { ann: { credentials: { s: { p: kept:P } } } }
`, s.URL)), nil)
			require.False(t, declaration.Failed(msgs), msgs)
			tg := d.TargetNamed("t")
			tg.Pace = declaration.Pace{Count: 10000, Per: time.Second}
			secret := "pass-phrase-1"
			k := NewKeyring(d, tg, client(t, tg), func(declaration.Value) (string, error) { return secret, nil })
			x := sessions.Drill{Identity: "ann", Scheme: d.SchemeNamed("s"),
				Use: check.Request{Method: "GET", Path: "/a"}, Longest: 900 * time.Millisecond}
			fact, err := Runner{Keys: k}.Run(context.Background(), sessions.Script(d, tg, x))
			require.NoError(t, err)
			got, sent := fact.Data.(*sessions.Measured), fact.Reports
			require.Len(t, sent, len(got.Steps))
			var names []string
			for _, st := range got.Steps {
				if n := len(names); n == 0 || names[n-1] != st.Name {
					names = append(names, st.Name)
				}
			}
			want := []string{session.LogInBeside, session.LogIn, session.Use, session.Refresh,
				session.UseRenewed,
				session.LogOutNobody, session.UseBeside, session.LogOut, session.UseAfterLogout,
				session.UseOnNodes, session.RefreshAfterLogout,
				session.LogOutAgain, session.UseBesideAfter,
				session.LogInAgain, session.RefreshAgain, session.OldRefresh, session.RefreshAfterReuse}
			if got.Outlived {
				want = slices.DeleteFunc(want, func(n string) bool { return n == session.UseOnNodes })
			}
			assert.Equal(t, want, names)
			assert.True(t, got.Rotated)
			assert.Equal(t, 5*time.Minute, got.Said)
			assert.Equal(t, c.outlived, got.Outlived)
			switch {
			case c.lingers == 0:
				assert.Zero(t, got.After)
			case c.outlived:
				assert.GreaterOrEqual(t, got.After, x.Longest)
				assert.Len(t, got.Steps, len(names)+1, "of many tries the first and the last are told")
			default:
				assert.Greater(t, got.After, time.Duration(0))
				assert.Less(t, got.After, got.Waited)
			}
			for _, n := range []string{session.LogIn, session.Use, session.Refresh, session.LogOut,
				session.RefreshAgain} {
				st, _ := got.Step(n)
				assert.True(t, st.Worked, n)
			}
			for _, n := range []string{session.LogOutNobody, session.RefreshAfterLogout, session.OldRefresh,
				session.RefreshAfterReuse} {
				st, _ := got.Step(n)
				assert.False(t, st.Worked, n)
			}
			all := fmt.Sprint(sent)
			for _, hidden := range []string{"access-secret", "refresh-secret", "pass-phrase"} {
				assert.NotContains(t, all, hidden)
			}

			secret = "another"
			fact, err = Runner{Keys: k}.Run(context.Background(), sessions.Script(d, tg, x))
			require.NoError(t, err)
			assert.True(t, fact.Data.(*sessions.Measured).Failed, "a login that gives nothing is no drill")
			ctx, stop := context.WithCancel(context.Background())
			stop()
			fact, err = Runner{Keys: k}.Run(ctx, sessions.Script(d, tg, x))
			require.ErrorIs(t, err, context.Canceled)
			assert.NotEmpty(t, fact.Cut)
			k.look = func(declaration.Value) (string, error) { return "", errors.New("pass-phrase-1 is not set") }
			fact, err = Runner{Keys: k}.Run(context.Background(), sessions.Script(d, tg, x))
			require.ErrorIs(t, err, ErrCredential, "nothing was sent, and why")
			assert.Contains(t, fact.Reports[0].Why, "is not set")
			assert.NotContains(t, fact.Reports[0].Why, "pass-phrase", "a reason is masked as everything else is")
		})
	}
}

func TestTimingLogins(t *testing.T) {
	_, k, asked := otherKinds(t)
	f, err := Runner{Keys: k}.Run(t.Context(), logins.Timing(&check.Context{Doc: k.doc, Target: k.target}, "ann",
		"desk", 3))
	require.NoError(t, err)
	m, _ := f.Data.(*logins.Timed)
	assert.Len(t, m.Known, 3)
	assert.Len(t, m.Unknown, 3)
	assert.Len(t, *asked, 8, "one pair more opens the connection")
	all := strings.Join(*asked, " ")
	assert.Equal(t, 4, strings.Count(all, "u=ann"), "in turn with names that nobody has")
	assert.Equal(t, 4, strings.Count(all, "u=nobody-"))
}
