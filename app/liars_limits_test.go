package app

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"time"
)

// guarded is the village with a quota on its logins, counted by account.
func guarded(locks string) string {
	return strings.NewReplacer("millgate: 1\n", "millgate: 1.1\n", "identities:\n", "identities:\n"+
		"  eve: { roles: r, credentials: { access: { n: eve, password: right-eve } } }\n", "routes: [",
		"routes: [POST /login, ",
		"access:\n  - {", "access:\n  - { at: POST /login, who: anyone }\n  - {").Replace(village) +
		"quotas:\n  guesses: { at: POST /login, allow: 5 per 15m, counted_by: account" + locks + " }\n"
}

// own is what a twist remembers of one villager: a row that is run again has another.
func own[T any](begin func() *T) func(v *villager) *T {
	var all sync.Map
	return func(v *villager) *T {
		mine, _ := all.LoadOrStore(v, begin())
		return mine.(*T)
	}
}

// accounts counts the wrong secrets of each account. open lets the right secret in all the same,
// never closes nothing.
func accounts(open, never bool) func(*villager, http.ResponseWriter, *http.Request) bool {
	type tries struct {
		sync.Mutex
		wrong map[string]int
	}
	of := own(func() *tries { return &tries{wrong: map[string]int{}} })
	return func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path != "/login" || r.Method != "POST" {
			return eves(w, r)
		}
		var in struct{ N, P string }
		_ = json.NewDecoder(r.Body).Decode(&in)
		mine := of(v)
		mine.Lock()
		defer mine.Unlock()
		wrong := mine.wrong
		right := in.P == "right-"+in.N
		w.Header().Set("Content-Type", "application/json")
		switch {
		case wrong[in.N] >= 5 && !never && !(right && open):
			w.Header().Set("Retry-After", "900")
			w.WriteHeader(429)
		case !right:
			if in.N == "ann" || in.N == "bob" || in.N == "eve" {
				wrong[in.N]++
			}
			if in.N != "eve" && wrong[in.N] > 0 {
				v.times("people's accounts")
			}
			w.WriteHeader(401)
		default:
			_, _ = fmt.Fprintf(w, `{"t":"token-of-%s"}`, in.N)
		}
		return true
	}
}

// eves lets eve in where bob is.
func eves(_ http.ResponseWriter, r *http.Request) bool {
	if strings.EqualFold(r.Header.Get("Authorization"), "Bearer token-of-eve") &&
		len(r.Header.Values("Authorization")) == 1 {
		r.Header.Set("Authorization", "Bearer token-of-bob")
	}
	return false
}

// slowly makes every so many answers late.
func slowly(every int, by time.Duration, then func(*villager, http.ResponseWriter, *http.Request) bool) func(*villager,
	http.ResponseWriter, *http.Request) bool {
	return func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		if v.times("answers")%every == 0 {
			time.Sleep(by)
		}
		return then != nil && then(v, w, r)
	}
}

// jumping is a clock that is off, each time it is read to the other side.
func jumping(by time.Duration) func() time.Time {
	var mu sync.Mutex
	return func() time.Time {
		mu.Lock()
		defer mu.Unlock()
		by = -by
		return time.Now().Add(by)
	}
}

// dated says by a clock what time it is and when to come again.
func dated(clock func() time.Time, then func(*villager, http.ResponseWriter, *http.Request) bool) func(*villager,
	http.ResponseWriter, *http.Request) bool {
	return rewritten(then, func(_ *villager, _ *http.Request, a *httptest.ResponseRecorder) {
		now := clock()
		a.Header().Set("Date", now.UTC().Format(http.TimeFormat))
		if s, err := strconv.Atoi(a.Header().Get("Retry-After")); err == nil {
			a.Header().Set("Retry-After", now.Add(time.Duration(s)*time.Second).UTC().Format(http.TimeFormat))
			a.Header().Set("X-RateLimit-Reset", strconv.FormatInt(now.Unix()+int64(s), 10))
		}
	})
}

// windows admits so many calls of c in each window from the first call on, and says fields.
func windows(n int, per time.Duration, fields ...string) func(*villager, http.ResponseWriter, *http.Request) bool {
	type window struct {
		sync.Mutex
		ends  time.Time
		count int
	}
	of := own(func() *window { return &window{} })
	return func(v *villager, w http.ResponseWriter, r *http.Request) bool {
		if r.URL.Path != "/c" || r.Method != "GET" && r.Method != "HEAD" || v.who(r) == "" {
			return false
		}
		mine := of(v)
		mine.Lock()
		defer mine.Unlock()
		if now := time.Now(); now.After(mine.ends) {
			mine.ends, mine.count = now.Add(per), 0
		}
		mine.count++
		for i := 0; i+1 < len(fields); i += 2 {
			w.Header().Set(fields[i], fields[i+1])
		}
		if mine.count > n {
			w.Header().Set("Retry-After", fmt.Sprint(int(time.Until(mine.ends).Seconds())+1))
			w.WriteHeader(429)
			return true
		}
		return false
	}
}

const counted = "quotas:\n  q: { at: GET /c, allow: 20 per 5m, counted_by: everyone }\n"

// withLimits are services whose limits are other than they look.
var withLimits = []liar{
	{name: "an account is closed, and stays closed", text: guarded(", locks: { for: 15m, tried_on: eve }"),
		twist: accounts(false, false), kinds: []string{}, code: 0},
	{name: "a closed account opens to the right secret", text: guarded(", locks: { for: 15m, tried_on: eve }"),
		twist: accounts(true, false), kinds: []string{"T quota guesses"}, code: 1,
		says: []string{"A closed account opens to the right secret"}},
	{name: "no account is ever closed", text: guarded(", locks: { for: 15m, tried_on: eve }"),
		twist: accounts(false, true), kinds: []string{"T quota guesses"}, code: 1, says: []string{"was refused"}},
	{name: "nobody is given up", text: guarded(", locks: { for: 15m }"), twist: accounts(false, false),
		kinds: []string{},
		code:  0, says: []string{"left out: POST /login: a login with a wrong secret: it could close an account",
			"left out: quota guesses: the quota drill: it would close an account"}, untouched: "people's accounts"},
	{name: "a limit with a window longer than the drill, and slow answers", text: village + counted,
		twist: slowly(5, 300*time.Millisecond, windows(20, 5*time.Minute)), kinds: []string{}, code: 0,
		never: []string{"bucket", "wait for their turn"}},
	{name: "nothing limits, and answers are slow now and then", text: village +
		"quotas:\n  q: { at: GET /c, allow: 1000 per 1m, counted_by: everyone }\n",
		twist: slowly(7, 400*time.Millisecond, nil), kinds: []string{}, code: 0, never: []string{"wait for",
			"refused"}},
	{name: "a slow service is no limit of one", text: village +
		"quotas:\n  q: { at: GET /c, allow: 4, counted_by: everyone, model: concurrency }\n",
		twist: slowly(1, 120*time.Millisecond, nil), never: []string{"proven", "limit on how many run at once: 1"}},
	{name: "twice what is declared, within its window", text: village + counted, twist: windows(45, 5*time.Minute),
		kinds: []string{"T quota q"}, says: []string{"calls got through in"}, code: 0},
	{name: "nothing limits for the time that was watched", text: village + counted, kinds: []string{"T quota q"},
		says:  []string{"More calls get through than declared", "further up, or later"},
		never: []string{"Nothing limits"},
		code:  0},
	{name: "answers say another limit", text: village + counted, twist: windows(20, 5*time.Minute, "RateLimit-Policy",
		`"all";q=50;w=60`), kinds: []string{"W quota q"},
		says: []string{"Answers say 50 per 1m0s in RateLimit"}, code: 0},
	{name: "answers say the declared limit and one of a day", text: village + counted, twist: windows(20, 5*time.Minute,
		"RateLimit-Policy", `"few";q=20;w=300, "day";q=5000;w=86400`), kinds: []string{}, code: 0},
	{name: "a clock that is an hour behind says when to come again", twist: dated(func() time.Time {
		return time.Now().Add(-time.Hour)
	}, windows(3, 20*time.Second)), kinds: []string{}, code: 0, whole: true},
	{name: "a clock that jumps says when to come again", text: village + counted,
		twist: dated(jumping(time.Hour), windows(20, 5*time.Minute, "X-RateLimit-Limit", "20")), kinds: []string{},
		code: 0},
	{name: "it asks to come again when it opens", text: village + counted, twist: windows(20, 5*time.Minute),
		kinds: []string{}, code: 0, never: []string{"Does not hold"}},
}
