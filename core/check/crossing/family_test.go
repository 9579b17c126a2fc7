package crossing

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/testkit/play"
)

func TestWhatIsPlanned(t *testing.T) {
	_, p := planned(t, "all")
	byRoute := map[string][]string{}
	for _, x := range p.Probes {
		byRoute[x.Route] = append(byRoute[x.Route],
			x.Caller.Identity+" "+string(x.Caller.State)+" "+string(x.Relation)+x.Of)
	}
	assert.Equal(t, []string{" absent ", " broken ", "ann sound ", "boss sound ", " absent asking for HTML",
		" absent without Accept"}, byRoute["GET /things"], "it stands for its guard")
	assert.Equal(t, []string{" absent ", " broken ", "ann sound own", "ann sound foreign", "bob sound own",
		"boss sound ",
		" absent asking for HTML"}, byRoute["GET /things/{id}"],
		"boss is admitted whatever the record, and nobody, who asks for a page, is not")
	assert.Equal(t, []string{"crossing|GET /things|boss|s|sound||"},
		of(named(t, p, "crossing|GET /things/{id}|boss|s|sound||")).Near, "the one safe route beside it")
	ann := named(t, p, "crossing|GET /things|ann|s|sound||")
	assert.Equal(t, []string{"bob"}, ann.StandsFor, "the declaration cannot tell them apart")
	assert.Equal(t, "crossing|GET /things|boss|s|sound||", ann.Control)
	assert.Equal(t, "boss", of(ann).ControlBy)
	assert.True(t, named(t, p, ann.Control).IsControl)
	own := named(t, p, "crossing|DELETE /things/{id}|ann|s|sound|own|")
	assert.Equal(t, check.ThenDeleting, own.Phase)
	assert.Equal(t, check.Record{Name: "thing", Param: "id", Owner: "ann"}, own.Record, "made for it, and for it alone")
	foreign := named(t, p, "crossing|DELETE /things/{id}|ann|s|sound|foreign|")
	assert.Equal(t, check.ThenTurnedAway, foreign.Phase)
	assert.True(t, foreign.Record.Lent() && foreign.Record.Shared)
	assert.Equal(t, 6, p.Inferred, "bob at each route")

	_, p = planned(t, "none")
	for _, x := range p.Probes {
		assert.False(t, x.Unsafe, x.Key())
	}
	assert.Contains(t, p.Left, check.Omission{Route: "POST /things", Caller: "ann", What: "the crossing",
		ByTarget: true, Why: "the target does not allow unsafe methods"})
	assert.Contains(t, p.Left, check.Omission{Route: "POST /things", What: "nobody, absent credential", ByTarget: true,
		Why: "the target does not allow unsafe methods"})
}

// The broken credential is of a scheme that the route accepts, of the first one where it says
// nothing, and of none where there is none.
func TestBrokenCredentials(t *testing.T) {
	for schemes, want := range map[string]string{"{ s: { kind: bearer }, z: { kind: basic } }": "s s z", "{ }": "  "} {
		entry := "access: [{ at: GET /b, who: anyone, broken: refused }, { at: GET /c, who: signed-in, by: z }]\n"
		if want == "  " {
			entry = ""
		}
		d, _ := declaration.Parse("x", []byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\n"+
			"routes: [GET /a, GET /b, GET /c]\nschemes: "+schemes+"\n"+entry), nil)
		var got []string
		for i := range d.Routes {
			got = append(got, brokenScheme(d, i))
		}
		assert.Equal(t, want, strings.Join(got, " "))
	}
}

// Where nobody can show a request to be a fair one that is said, but for what nobody may do.
func TestWithoutAControl(t *testing.T) {
	for access, want := range map[string]int{"{ at: GET /things, who: boss }": 1,
		"{ at: GET /things, who: nobody }": 0} {
		d, msgs := declaration.Parse("x",
			[]byte("millgate: 1\ntargets: { t: { base: \"http://h\" } }\nroutes: [GET /things]\n"+
				"roles: { boss: }\nschemes: { s: { kind: bearer } }\naccess: ["+access+"]\n"), nil)
		require.False(t, declaration.Failed(msgs), msgs)
		p := check.NewPlanning(nil)
		Family{}.Plan(&check.Context{Doc: d, Target: d.Targets[0]}, p)
		n := 0
		for _, o := range p.Left {
			if o.What == "the control" {
				n++
			}
		}
		assert.Equal(t, want, n, access)
		assert.NotEmpty(t, p.Probes)
	}
}

// steps plays a script: what each of its calls is answered, by name.
func steps(t *testing.T, c *check.Context, p *check.Probe, answers map[string]check.Report) ([]check.Step, check.Fact) {
	t.Helper()
	s := Family{}.Script(c, p)
	var out []check.Step
	var last []check.Report
	for {
		step := s.Next(time.Duration(len(out)), last)
		if step.Ends() {
			break
		}
		out = append(out, step)
		last = nil
		calls := step.Send
		if step.Lend != nil {
			calls = []check.Call{step.Lend.Make}
		}
		for _, call := range calls {
			r, ok := answers[call.Name]
			require.True(t, ok, "%q is not expected", call.Name)
			r.Name = call.Name
			last = append(last, r)
		}
	}
	data, reports := s.Data()
	return out, check.Fact{Reports: reports, Data: data}
}

func answered(status int, body string) check.Report {
	return report("", check.Answer{Status: status, Body: []byte(body)})
}

const makes = "POST /things as bob"

func lent() check.Report {
	r := answered(201, `{"id":"t-9"}`)
	r.Took = map[string]string{check.OnRecord: "t-9"}
	return r
}

// Who must be turned away is sent on a record that is made for it, which its owner reads
// before and after.
func TestARecordIsLentAndRead(t *testing.T) {
	c, p := planned(t, "all")
	probe := named(t, p, "crossing|DELETE /things/{id}|ann|s|sound|foreign|")
	before, after := answered(200, `{"n":1}`), answered(404, "")
	answers := map[string]check.Report{makes: lent(), "the record before": before,
		"the record before, read again": before, "the request": answered(403, ""), "the record afterwards": before}
	list, f := steps(t, c, probe, answers)
	require.Len(t, list, 5, "and it is left as it was")
	assert.Equal(t, "thing", list[0].Lend.Record)
	assert.Equal(t, "DELETE /things/{id}\x00thing\x00bob", list[0].Lend.Key)
	read, asked := list[1].Send[0], list[3].Send[0]
	assert.Equal(t, "GET", read.Request.Method)
	assert.Equal(t, "bob", read.As[0].Identity, "its owner reads it")
	assert.Equal(t, check.Safe, read.Effect)
	assert.Equal(t, "ann", asked.As[0].Identity)
	assert.Equal(t, check.Unsafe, asked.Effect)
	assert.False(t, asked.Must)
	for _, call := range []check.Call{read, asked} {
		assert.Equal(t, map[string]check.Fill{":record": {Slot: check.OnRecord}}, call.Request.Fill)
		assert.Equal(t, "/things/{:record}", call.Request.Path)
	}
	assert.Equal(t, []string{"the request", "the record before", "the record before, read again",
		"the record afterwards"}, names(f), "what it is about comes first")
	assert.Equal(t, &check.Recorded{Record: "t-9"}, f.Data)

	answers["the record afterwards"] = after
	list, f = steps(t, c, probe, answers)
	assert.Equal(t, &check.Back{Slot: check.OnRecord, Gone: true}, list[5].Back)
	_, how := check.ReadBack(&f)
	assert.Equal(t, check.Gone, how)

	answers["the record before"] = answered(500, "")
	list, f = steps(t, c, probe, answers)
	require.Len(t, list, 3, "what cannot be read before is not read after")
	assert.Equal(t, []string{"the request"}, names(f))

	answers[makes] = answered(403, "")
	list, f = steps(t, c, probe, answers)
	assert.Len(t, list, 1, "nothing is sent without it")
	assert.Empty(t, f.Reports)

	answers[makes] = lent()
	answers["the request"] = check.Report{Why: "no credential"}
	answers["the record before"] = before
	_, f = steps(t, c, probe, answers)
	assert.Equal(t, []string{"the request"}, names(f), "what was not sent changed nothing")
}

func names(f check.Fact) (out []string) {
	for _, r := range f.Reports {
		out = append(out, r.Name)
	}
	return out
}

// An admitted caller has a record of its own, which it takes with it.
func TestARecordOfItsOwn(t *testing.T) {
	c, p := planned(t, "all")
	list, _ := steps(t, c, named(t, p, "crossing|DELETE /things/{id}|ann|s|sound|own|"), map[string]check.Report{
		"POST /things as ann": lent(), "the request": answered(204, "")})
	require.Len(t, list, 3)
	assert.Empty(t, list[0].Lend.Key, "nobody else is lent it")
	assert.True(t, list[1].Send[0].Must)
	assert.Equal(t, &check.Back{Slot: check.OnRecord, Gone: true}, list[2].Back)
	list, _ = steps(t, c, named(t, p, "crossing|PUT /things/{id}|ann|s|sound|own|"), map[string]check.Report{
		"POST /things as ann": lent(), "the request": answered(200, ""), "GET /things/{id} as ann": answered(200, "")})
	assert.Equal(t, &check.Back{Slot: check.OnRecord}, list[2].Back, "it is still to be removed")
	then := list[3].Send[0].Request
	assert.Equal(t, map[string]check.Fill{"id": {Slot: check.OnRecord}}, then.Fill)
}

// What is made is told with its id, and the follow-up is sent with what the answer gives.
func TestWhatIsMadeIsFollowed(t *testing.T) {
	c, p := planned(t, "all")
	probe := named(t, p, "crossing|POST /things|ann|s|sound||")
	const then = "GET /things/{new} as boss"
	admitted := answered(201, `{"id":"t-7"}`)
	admitted.Took = map[string]string{"made": "t-7", "then 0: new": "t-7"}
	list, f := steps(t, c, probe, map[string]check.Report{"the request": admitted, then: answered(200, "{}")})
	require.Len(t, list, 2)
	call := list[0].Send[0]
	assert.Equal(t, &check.Makes{Record: "thing", Slot: "made"}, call.Makes)
	assert.Contains(t, call.Take, check.Take{Slot: "made", At: "/id", Plain: true})
	assert.Contains(t, call.Take, check.Take{Slot: "then 0: new", At: "/id", Plain: true})
	assert.Equal(t, check.Fill{Slot: "then 0: new"}, list[1].Send[0].Request.Fill["new"])
	assert.Equal(t, "boss", list[1].Send[0].As[0].Identity)
	assert.Equal(t, []string{"the request", then}, names(f))

	admitted.Took = map[string]string{"made": "t-7"}
	list, f = steps(t, c, probe, map[string]check.Report{"the request": admitted})
	assert.Len(t, list, 1)
	assert.Equal(t, check.Report{Name: then, Why: "the answer has nothing at /id"}, f.Reports[1])
	list, _ = steps(t, c, probe, map[string]check.Report{"the request": answered(403, "")})
	assert.Len(t, list, 1, "who is turned away had no effect that could show")
	assert.Nil(t, Call(c, named(t, p, "crossing|GET /things|ann|s|sound||")).Makes)
}

func TestCredentialsAndBodies(t *testing.T) {
	c, p := planned(t, "all")
	out := Call(c, named(t, p, "crossing|POST /out|ann|s|sound||"))
	assert.True(t, out.As[0].Fresh, "what ends a session is given one of its own to end")
	assert.False(t, Call(c, named(t, p, "crossing|POST /out|nobody|s|broken||")).As[0].Fresh)
	assert.Empty(t, Call(c, named(t, p, "crossing|POST /out|nobody||absent||")).As)
	q := Call(c, named(t, p, "crossing|POST /things|ann|s|sound||")).Request
	assert.JSONEq(t, `{"name":"x"}`, string(q.Body))
	assert.Equal(t, "application/json", q.Headers.Get("Content-Type"))
	known := Call(c, named(t, p, "crossing|GET /things/{id}|ann|s|sound|foreign|")).Request
	assert.Equal(t, "/things/t-2", known.Path)
	assert.Empty(t, known.Fill)
	for way, want := range map[string]string{AcceptHTML: "text/html,application/xhtml+xml", AcceptNone: ""} {
		x, ok := refusal(c, named(t, p, "crossing|GET /things|boss|s|sound||"), way)
		require.True(t, ok)
		h := Request(c, &x).Headers
		assert.Equal(t, field.List{{"Accept", want}}, h)
		assert.Equal(t, "crossing|GET /things|nobody||absent||"+way, x.Key())
	}
	c.Doc.SchemeNamed("s").Kind = declaration.Link
	link := Request(c, named(t, p, "crossing|GET /things/{id}|ann|s|sound|foreign|"))
	assert.Equal(t, map[string]string{"id": "t-2"}, link.Params, "a link is asked for with its record")
	own := named(t, p, "crossing|DELETE /things/{id}|ann|s|sound|own|")
	assert.Equal(t, map[string]string{"id": "{:record}"}, Request(c, own).Params)
}

// Facts are read back as they were written, those of versions before as well.
func TestFactsOfBefore(t *testing.T) {
	data, err := Family{}.Decode(Family{}.Version(), []byte(`{"record":"t-1"}`))
	require.NoError(t, err)
	assert.Equal(t, &check.Recorded{Record: "t-1"}, data)
	_, err = Family{}.Decode(Family{}.Version()+1, nil)
	assert.ErrorContains(t, err, "version 2")
	f := Family{}.Before("crossing", check.Exchange{Error: "reset"}, 2,
		check.Recorded{ReadBack: check.Unchanged}, []check.Report{{Name: "then"}})
	assert.Equal(t, check.Lost, f.Reports[0].Fate)
	assert.Equal(t, 2, f.Reports[0].Repeats)
	assert.Equal(t, &check.Recorded{}, f.Data, "what stayed as it was says nothing")
	assert.Equal(t, "then", f.Reports[1].Name)
}

// A script can be given up anywhere.
func TestGivenUp(t *testing.T) {
	c, p := planned(t, "all")
	for stop := range 5 {
		f, _ := play.Run(Family{}.Script(c, named(t, p, "crossing|DELETE /things/{id}|ann|s|sound|foreign|")), stop,
			func(call check.Call, _ time.Duration) check.Report {
				if call.Name == makes {
					return lent()
				}
				return answered(200, "{}")
			})
		assert.LessOrEqual(t, len(f.Reports), stop)
	}
}

// Nobody is changed whose declaration would be false from then on.
func TestWhatARouteChanges(t *testing.T) {
	d, msgs := declaration.Parse("x", []byte(`millgate: 1.1
targets: { t: { base: "http://h" } }
routes: [{ at: GET /confirm, changes: { verified: true } }]
schemes: { s: { kind: bearer } }
identities:
  ann: { attributes: { verified: true }, credentials: { s: { token: env:A } } }
  bob: { attributes: { verified: false }, credentials: { s: { token: env:B } } }
  cat: { credentials: { s: { token: env:C } } }
access: [{ at: GET /confirm, who: [identity:ann, identity:bob] }]
`), nil)
	require.False(t, declaration.Failed(msgs), msgs)
	c, p := &check.Context{Doc: d, Target: d.Targets[0]}, check.NewPlanning(nil)
	Family{}.Plan(c, p)
	var who []string
	for _, x := range p.Probes {
		if x.Caller.Identity != "" {
			who = append(who, x.Caller.Identity)
		}
	}
	assert.ElementsMatch(t, []string{"ann", "cat"}, who, "cat must be turned away, and is not changed")
	assert.Contains(t, p.Left, check.Omission{Route: "GET /confirm", Caller: "bob", What: "the crossing",
		Why: "it would change verified of bob, and what is declared would be false from then on"})
}
