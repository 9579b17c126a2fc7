package app

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/core/finding"
)

// notes is a service of notes with owners, whose behaviour a test bends.
type notes struct {
	mu    sync.Mutex
	next  int
	notes map[string]map[string]any
	reads int
	// What a test may change.
	refuseAndDo   bool // a change that is refused is made all the same
	clock         bool // every read answers with another time
	location      bool // a creation answers with an address only
	takesRoles    bool // a change takes roles from the body
	forgetsToTurn bool // a change by a stranger is let through
}

func newNotes() *notes {
	return &notes{notes: map[string]map[string]any{"n1": {"id": "n1", "owner": "ann", "text": "Ann's",
		"roles": []any{"r"}}, "n2": {"id": "n2", "owner": "bob", "text": "Bob's", "roles": []any{"r"}}}}
}

func (n *notes) serve(w http.ResponseWriter, r *http.Request) {
	n.mu.Lock()
	defer n.mu.Unlock()
	body, _ := io.ReadAll(r.Body)
	var in map[string]any
	_ = json.Unmarshal(body, &in)
	who := map[string]string{"key-of-ann": "ann", "key-of-bob": "bob"}[r.Header.Get("X-Key")]
	say := func(status int, v any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		if v != nil {
			_ = json.NewEncoder(w).Encode(v)
		}
	}
	if r.URL.Path == "/notes" && r.Method == "POST" {
		if who == "" {
			say(401, nil)
			return
		}
		n.next++
		id := fmt.Sprintf("m%d", n.next)
		n.notes[id] = map[string]any{"id": id, "owner": who, "text": in["text"], "roles": []any{"r"}}
		if n.location {
			w.Header().Set("Location", "/notes/"+id)
			say(201, map[string]any{"made": true, "ref": id})
			return
		}
		say(201, n.notes[id])
		return
	}
	id, ok := strings.CutPrefix(r.URL.Path, "/notes/")
	if !ok || strings.Contains(id, "/") || id == "" {
		say(404, nil)
		return
	}
	note := n.notes[id]
	own := note != nil && note["owner"] == who
	change := func() {
		for k, v := range in {
			if k == "text" || k == "roles" && n.takesRoles {
				note[k] = v
			}
		}
	}
	switch r.Method {
	case "GET", "PATCH", "DELETE":
	default:
		say(405, nil)
		return
	}
	switch {
	case who == "":
		if n.refuseAndDo && r.Method == "PATCH" && note != nil {
			note["text"] = "changed by nobody"
		}
		say(401, nil)
	case !own && (note == nil || !n.forgetsToTurn || r.Method != "PATCH"):
		if note == nil && r.Method == "GET" {
			say(404, nil)
			return
		}
		say(403, nil)
	case r.Method == "GET":
		out := map[string]any{}
		for k, v := range note {
			out[k] = v
		}
		if n.clock {
			n.reads++
			out["served_at"] = n.reads
		}
		say(200, out)
	case r.Method == "PATCH":
		change()
		say(200, note)
	default:
		delete(n.notes, id)
		say(204, nil)
	}
}

const notesText = `millgate: 1
targets: { stand-in: { base: "%s", pace: 5000 per 1s, unsafe: made-records-only } }
routes:
  - "GET /notes/{id}"
  - { at: "PATCH /notes/{id}", send: { json: { text: changed } } }
  - "DELETE /notes/{id}"
  - { at: POST /notes, send: { json: { text: new } } }
roles: { r: , boss: { includes: r } }
schemes:
  key: { kind: api-key, in: header, name: X-Key }
  token: { kind: bearer, token: jwt, claims: { roles: /roles } }
identities:
  ann: { roles: r, credentials: { key: { key: env:KEY_ANN } } }
  bob: { roles: r, attributes: { x: 1 }, credentials: { key: { key: env:KEY_BOB } } }
records:
  note: { fills: "/notes/{id}", owned_by: { ann: [n1], bob: [n2] }, make: { send: POST /notes, json: { text: made }, id: %s }, remove: "DELETE /notes/{id}" }
access:
  - { at: "/notes/{id}", who: owner }
  - { at: POST /notes, who: r }
`

func sweepNotes(t *testing.T, n *notes) (*App, coverage.Result) {
	t.Helper()
	t.Setenv("KEY_ANN", "key-of-ann")
	t.Setenv("KEY_BOB", "key-of-bob")
	f := newFake(t, func(_ *fake, w http.ResponseWriter, r *http.Request) { n.serve(w, r) })
	id := "/id"
	if n.location {
		id = "/ref"
	}
	a := openText(t, fmt.Sprintf(notesText, f.URL, id), "")
	_, res := swept(t, a)
	return a, res
}

func (n *notes) assertAsBefore(t *testing.T) {
	t.Helper()
	assert.Equal(t, newNotes().notes, n.notes, "what was there is as it was, and nothing is left")
}

func TestNotesAreSound(t *testing.T) {
	for name, n := range map[string]*notes{"plain": newNotes(), "a time in every answer": newNotes(),
		"an address in place of the record": newNotes()} {
		n.clock = name == "a time in every answer"
		n.location = name == "an address in place of the record"
		_, res := sweepNotes(t, n)
		assert.Empty(t, res.Findings, name)
		assert.Empty(t, res.Made, name)
		assert.Empty(t, res.Unsent, name)
		n.assertAsBefore(t)
	}
}

// What changes by itself is told from what a refused request changed.
func TestRefusedAndDone(t *testing.T) {
	for _, clock := range []bool{false, true} {
		n := newNotes()
		n.refuseAndDo, n.clock = true, clock
		a, res := sweepNotes(t, n)
		require.Len(t, res.Findings, 1)
		f := res.Findings[0]
		assert.Equal(t, finding.Unprotected, f.Kind)
		assert.Equal(t, "PATCH /notes/{id}", f.Route)
		assert.Equal(t, 696, f.CWE)
		assert.Contains(t, f.Reason, "the record is changed afterwards")
		v, err := a.View.Crossing(t.Context(), "", "PATCH /notes/{id}", "")
		require.NoError(t, err)
		assert.Equal(t, "changed", v.Probes[0].Fact.ReadBack)
		n.assertAsBefore(t)
	}
}

func TestAStrangersChangeIsProven(t *testing.T) {
	n := newNotes()
	n.forgetsToTurn = true
	_, res := sweepNotes(t, n)
	require.Len(t, res.Findings, 1)
	assert.Equal(t, finding.OverPermissive, res.Findings[0].Kind)
	assert.Equal(t, 639, res.Findings[0].CWE)
	assert.Equal(t, finding.Proven, res.Findings[0].Confidence)
	assert.Contains(t, res.Findings[0].Reason, "The owner's record is changed afterwards")
	n.assertAsBefore(t)
}

// A role that a body raised is put back, and what was raised was a throwaway.
func TestARaisedRoleIsPutBack(t *testing.T) {
	n := newNotes()
	n.takesRoles = true
	_, res := sweepNotes(t, n)
	require.Len(t, res.Findings, 1)
	assert.Equal(t, finding.OverPermissive, res.Findings[0].Kind)
	assert.Equal(t, "A role raised through the body", res.Findings[0].Title)
	assert.Equal(t, 915, res.Findings[0].CWE)
	assert.Empty(t, res.Made)
	n.assertAsBefore(t)
}
