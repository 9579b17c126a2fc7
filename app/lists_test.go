package app

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/testkit/memnet"
)

// listsService lists notes at /l0, /l1 and so on, by a rule for each: whole, by number, or with the address of the
// next page.
type listsService struct {
	rules   [][]admits
	dropped string // the id of a note that no list shows to observers; "" for none
}

// shows are the notes that a list shows a caller; ok is false for who is turned away.
func (s listsService) shows(list int, who string) (out []string, ok bool) {
	observer := slices.ContainsFunc(members, func(m member) bool { return m.name == who && m.role == "observer" })
	for _, a := range s.rules[list] {
		ok = ok || a.fits(who)
	}
	for _, n := range sheets {
		if (n.id != s.dropped || !observer) && (teamsService{s.rules}).lets(list, who, n) {
			out = append(out, n.id)
		}
	}
	return out, ok
}

func (s listsService) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	say := func(status int, body any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(body)
	}
	var list int
	if n, err := fmt.Sscanf(r.URL.Path, "/l%d", &list); n != 1 || err != nil || list >= len(s.rules) ||
		fmt.Sprintf("/l%d", list) != r.URL.Path {
		say(404, map[string]any{"error": "nothing is here"})
		return
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET")
		say(405, map[string]any{"error": "it is read alone"})
		return
	}
	who, _ := strings.CutPrefix(r.Header.Get("X-Key"), "key-of-")
	if !slices.ContainsFunc(members, func(m member) bool { return m.name == who }) {
		who = ""
	}
	ids, ok := s.shows(list, who)
	switch {
	case !ok && who == "":
		say(401, map[string]any{"error": "who are you"})
		return
	case !ok:
		say(403, map[string]any{"error": "it is not for you"})
		return
	}
	body := map[string]any{}
	if page := 0; list%3 != 0 { // two to a page
		_, _ = fmt.Sscan(r.URL.Query().Get("page"), &page)
		from := min(2*page, len(ids))
		to := min(from+2, len(ids))
		if list%3 == 2 && to < len(ids) {
			body["next"] = fmt.Sprintf("/l%d?page=%d", list, page+1)
		}
		ids = ids[from:to]
	}
	rows := []any{}
	for _, id := range ids {
		rows = append(rows, map[string]any{"id": id, "title": "the note called " + id})
	}
	body["rows"] = rows
	say(200, body)
}

// declaredLists is the declaration of rules.
func declaredLists(base string, rules [][]admits) string {
	text := declaredRules(base, rules)
	var listed, routes []string
	for i := range rules {
		text = strings.Replace(text, fmt.Sprintf("at: \"GET /r%d/{note_id}\"", i), fmt.Sprintf("at: GET /l%d", i), 1)
		text = strings.Replace(text, fmt.Sprintf("  - \"GET /r%d/{note_id}\"\n", i), "", 1)
		pages := []string{"", ", pages: { query: page, from: 0 }", ", pages: { next: /next }"}[i%3]
		listed = append(listed, fmt.Sprintf("{ at: GET /l%d, each: /rows%s }", i, pages))
		routes = append(routes, fmt.Sprintf("GET /l%d", i))
	}
	return strings.Replace(text, "routes:\n", "    listed: ["+strings.Join(listed, ", ")+"]\nroutes: ["+
		strings.Join(routes, ", ")+"]\n", 1)
}

// What a declaration says of lists is what is checked: a service that keeps it is found sound, and of one that shows
// more or less that list is named, and no other; or it is said what could not be shown.
func TestListsAreChecked(t *testing.T) {
	more, less := 0, 0
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 21)) //nolint:gosec // drawn alike each time
		rules := drawnRules(r, 6)
		served, broken := listsService{rules: slices.Clone(rules)}, r.IntN(len(rules))
		switch seed % 3 {
		case 1:
			served.rules[broken] = loosened(r, rules[broken])
		case 2:
			served.dropped = sheets[r.IntN(len(sheets))].id
		}
		var shown, lacks []string
		for list := range rules {
			for _, who := range []string{"", "imre", "tove", "sanna", "quill", "zeno"} {
				was, in := (listsService{rules: rules}).shows(list, who)
				is, gets := served.shows(list, who)
				for _, id := range is {
					if !slices.Contains(was, id) || !in {
						shown = append(shown, fmt.Sprintf("%s at /l%d: %s", who, list, id))
					}
				}
				if gets && !in {
					shown = append(shown, fmt.Sprintf("%s at /l%d", who, list))
				}
				for _, id := range was {
					if !slices.Contains(is, id) {
						lacks = append(lacks, fmt.Sprintf("/l%d", list))
					}
				}
			}
		}
		virtually(t, func(t *testing.T, n *memnet.Net) {
			base, end := n.Serve(served)
			defer end()
			a := openIn(t, n, declaredLists(base, rules))
			_, res := sweptAt(t, a, "t")
			says := fmt.Sprintf("seed %d: %v served as %v without %q, which shows %v", seed, rules, served.rules,
				served.dropped, shown)
			for _, f := range res.Findings {
				kinds := []string{"P", "U"}
				if seed%3 == 2 {
					kinds = []string{"R"}
					less++
					assert.Contains(t, lacks, strings.TrimPrefix(f.Route, "GET "), "%s: %s", says, f.Reason)
				} else {
					assert.Equal(t, fmt.Sprintf("GET /l%d", broken), f.Route, "%s: %s", says, f.Reason)
				}
				assert.Contains(t, kinds, string(f.Kind), "%s: %s", says, f.Reason)
			}
			switch {
			case len(shown) == 0 && len(lacks) == 0:
				assert.Empty(t, res.Findings, says)
			case len(shown) > 0:
				more++
				assert.NotEmpty(t, res.Findings, says)
			}
			time.Sleep(2 * time.Minute) // what is answered without end has ended
		})
	}
	t.Logf("%d that show more, %d lists that show less", more, less)
	assert.Greater(t, more, 8)
	assert.Greater(t, less, 8)
}

// The drawer of a list has the rows that should not be there, with whose they are.
func TestTheRowsOfAListAreSeen(t *testing.T) {
	virtually(t, func(t *testing.T, n *memnet.Net) {
		rules := [][]admits{{{"observer", "own"}, {"auditor", ""}}}
		base, end := n.Serve(listsService{rules: [][]admits{{{"observer", "team"}, {"observer", "published"},
			{"auditor", ""}}}})
		defer end()
		a := openIn(t, n, declaredLists(base, rules))
		sweptAt(t, a, "t")
		v, err := a.View.Crossing(t.Context(), "t", "GET /l0", "imre")
		require.NoError(t, err)
		assert.Equal(t, []check.Row{{ID: "n-3", Stands: []string{"team spectra"}},
			{ID: "n-5", Owner: "tove", Stands: []string{"published", "team transients"}},
			{ID: "n-6", Stands: []string{"published"}}}, v.Probes[0].Rows)
		assert.Contains(t, v.Expect.Reason(), "; shown only rows that are its own")
		v, err = a.View.Crossing(t.Context(), "t", "GET /l0", "quill")
		require.NoError(t, err)
		for _, p := range v.Probes {
			assert.Empty(t, p.Rows)
		}
		time.Sleep(2 * time.Minute)
	})
}
