package wire

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
)

// ledger notes what was lent and what became of it.
type ledger struct {
	list []string
	fail error
}

func (l *ledger) note(what string) error { l.list = append(l.list, what); return l.fail }

func (l *ledger) making(x check.Lend) (Making, error) {
	return entry{l, x.Record + " of " + x.Owner}, l.note("making " + x.Record + " of " + x.Owner)
}

type entry struct {
	l    *ledger
	what string
}

func (e entry) Made(id string) error  { return e.l.note(e.what + " is " + id) }
func (e entry) None(why string) error { return e.l.note(e.what + ": " + why) }
func (e entry) Gone() error           { return e.l.note(e.what + " is gone") }

// thing lends a record that is made by a name.
func thing(key, name string) check.Lend {
	return check.Lend{Key: key, Record: "thing", Owner: "ann", Slot: check.OnRecord, Make: check.Call{
		Name: "POST /" + name + " as ann", Request: check.Request{Method: "POST", Path: "/" + name}, As: ann,
		Effect: check.Again, Take: []check.Take{{Slot: check.OnRecord, At: "/id", Plain: true}}}}
}

// on reads the record that was lent, and gives it back where it is to.
func on(l check.Lend, back *check.Back) check.Script {
	return check.Tell(func(t *check.Telling) {
		r := t.Lend(l)
		if r.Took[l.Slot] == "" {
			return
		}
		t.One(check.Call{Name: "read", As: ann, Effect: check.Safe, Request: check.Request{Method: "GET",
			Path: "/things/{:record}", Params: map[string]string{"id": "{:record}"},
			Fill: map[string]check.Fill{":record": {Slot: l.Slot}}}})
		if back != nil {
			t.Back(*back)
		}
	})
}

func TestWhatIsLentIsShared(t *testing.T) {
	ctx := context.Background()
	s, r := newShelf(t)
	l := &ledger{}
	r.Lender, r.Making = &Lender{}, l.making
	run := func(x check.Lend, back *check.Back) string {
		f, err := r.Run(ctx, on(x, back))
		require.NoError(t, err)
		require.Len(t, f.Reports, 1, "what was lent is not the fact's")
		assert.Equal(t, 200, f.Reports[0].Exchange.Status)
		return f.Reports[0].Exchange.URL
	}
	shared := thing("here", "x")
	assert.Contains(t, run(shared, nil), "/things/x")
	assert.Contains(t, run(shared, &check.Back{Slot: check.OnRecord}), "/things/x", "as it was, it is lent again")
	run(shared, &check.Back{Slot: check.OnRecord, Gone: true})
	run(thing("", "own"), &check.Back{Slot: check.OnRecord, Gone: true})
	run(thing("", "own"), nil)
	run(shared, nil)
	made := []string{"making thing of ann", "thing of ann is x", // shared
		"making thing of ann", "thing of ann is x", "thing of ann is gone", // it was given back
		"making thing of ann", "thing of ann is own", "thing of ann is gone",
		"making thing of ann", "thing of ann is own",
		"making thing of ann", "thing of ann is x"}
	assert.Equal(t, made, l.list)
	assert.True(t, s.things["x"] && s.things["own"], "whoever lends removes nothing")
}

// Nothing is sent on a record that could not be made, and the reason is told.
func TestNothingToLend(t *testing.T) {
	ctx := context.Background()
	for name, c := range map[string]struct {
		status int
		lend   func(check.Lend) check.Lend
		fail   error
		err    string
		told   []string
	}{
		"refused": {403, nil, nil, "no throwaway thing could be made: POST /x as ann was answered 403",
			[]string{"making thing of ann", "thing of ann: POST /x as ann was answered 403"}},
		"no id": {0, func(l check.Lend) check.Lend { l.Make.Take[0].At = "/name"; return l }, nil,
			"no throwaway thing could be made: POST /x as ann was answered 201, without an id at /name",
			[]string{"making thing of ann", "thing of ann: POST /x as ann was answered 201, without an id at /name"}},
		"no credential": {0, func(l check.Lend) check.Lend {
			l.Make.As = []check.Present{{Caller: check.Caller{Identity: "eve", Scheme: "s"}}}
			return l
		}, nil, "no throwaway thing could be made: the credential cannot be obtained: there is no identity \"eve\"",
			nil},
		"no journal": {0, nil, errors.New("the disk is full"), "the disk is full", []string{"making thing of ann"}},
	} {
		s, r := newShelf(t)
		if c.status != 0 {
			s.answers("POST /x", c.status)
		}
		l := &ledger{fail: c.fail}
		r.Lender, r.Making = &Lender{}, l.making
		lend := thing("k", "x")
		if c.lend != nil {
			lend = c.lend(lend)
		}
		f, err := r.Run(ctx, on(lend, nil))
		assert.EqualError(t, err, c.err, name)
		assert.Empty(t, f.Reports, name)
		if c.told != nil {
			assert.Equal(t, c.told, l.list, name)
		}
		if name == "no credential" {
			assert.ErrorIs(t, err, ErrCredential)
		}
	}
}

// What a call made is told with the id that its answer gives; where several places may have
// it, the last that does counts.
func TestWhatWasMadeIsTold(t *testing.T) {
	for status, want := range map[int][]string{0: {"thing x"}, 403: nil, 303: nil} {
		s, r := newShelf(t)
		if status != 0 {
			s.answers("POST /x", status)
		}
		var told []string
		r.Made = func(m check.Makes, id string) { told = append(told, fmt.Sprintf("%s %s", m.Record, id)) }
		f, err := r.Run(context.Background(), one(check.Call{Name: "make", As: ann,
			Request: check.Request{Method: "POST", Path: "/x"}, Makes: &check.Makes{Record: "thing", Slot: "made"},
			Take: []check.Take{{Slot: "made", From: check.FromPlace, Plain: true},
				{Slot: "made", At: "/id", Plain: true}, {Slot: "made", At: "/none", Plain: true}}}))
		require.NoError(t, err)
		assert.Equal(t, want, told)
		if status == 0 {
			assert.Equal(t, "x", f.Reports[0].Took["made"], "an id is no secret")
			assert.Contains(t, f.Reports[0].Exchange.Content, `"x"`)
		}
	}
}
