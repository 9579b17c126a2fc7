package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/undeclared"
	"millgate/core/declaration"
	"millgate/core/finding"
)

func kindsDoc(t *testing.T) *declaration.Document {
	t.Helper()
	d, msgs := declaration.Parse("x", []byte(`millgate: 1
routes: [GET /a, POST /login]
schemes: { access: { kind: bearer, login: { send: POST /login, take: { access: /token } } } }
`), nil)
	require.Empty(t, msgs)
	return d
}

func TestLostIsUnproven(t *testing.T) {
	d := kindsDoc(t)
	p := item(crossings, "GET /a", "", access.Absent).Probe
	in := input(d, p)
	in.Lost = "sent before the sweep was interrupted"
	v := Of(in, nil)
	assert.Equal(t, finding.Unproven, v.Kind)
	assert.Empty(t, v.Gaps)
}

func TestCausesThatAreOne(t *testing.T) {
	d := kindsDoc(t)
	gap := func(k finding.Kind, cause, subject string) Gap {
		return Gap{Kind: k, Cause: cause, Subject: subject, Confidence: finding.Proven, Reason: cause}
	}
	kinds := func(items ...Item) (out []string) {
		for _, f := range gather(d, items) {
			out = append(out, string(f.Kind)+" "+f.Where()+": "+f.Title)
		}
		return out
	}
	slash := item(around, "GET /a", "", access.Absent, gap(finding.Unprotected, "way a slash",
		"credential"))
	double := item(around, "GET /a", "", access.Broken, gap(finding.Unprotected, "way a slash",
		"credential"))
	assert.Equal(t, []string{"U GET /a: The guard is stepped around by a slash"}, kinds(slash, double))

	w := gap(finding.WrongRefusal, "answer", "answer")
	assert.Equal(t, []string{"W " + AnyPath + ": A refusal in another shape than declared"},
		kinds(item(undeclared.Path, "GET /x", "", access.Absent, w),
			item(undeclared.Address, "GET /debug", "", access.Absent, w),
			item(around, "GET /a", "", access.Absent, w)))

	refused := item(crossings, "DELETE /a", "", access.Absent, gap(finding.Unprotected, "carried out",
		"credential"))
	forbidden := item(crossings, "DELETE /a", "ann", access.Sound,
		gap(finding.OverPermissive, "carried out", "role"), gap(finding.WrongRefusal, "forbid refused", "role"))
	forbidden.Probe.Unsafe = true
	assert.Equal(t, []string{"U DELETE /a: Refused and carried out all the same"}, kinds(refused, forbidden))

	other := item(crossings, "GET /a", "key", access.Sound, gap(finding.OverPermissive, "credential",
		"credential"))
	absent := item(crossings, "GET /a", "", access.Absent, gap(finding.Unprotected, "credential absent",
		"credential"))
	assert.Equal(t, []string{"U GET /a: Open when no credential is sent"}, kinds(absent, other),
		"another scheme is no credential here")
	assert.Equal(t, []string{"P GET /a: With another scheme"}, kinds(other))

	two := item(crossings, "GET /a", "ann", access.Sound, gap(finding.Leaking, "field password", "answer"),
		gap(finding.Leaking, "text goroutine", "answer"))
	assert.Len(t, kinds(two), 2, "two things shown are two findings")
	for _, title := range []string{"Answered 401, 403 is declared", "Sent to a login page, 401 is declared"} {
		cause := map[string]string{"Answered 401, 403 is declared": "forbid refused",
			"Sent to a login page, 401 is declared": "refuse to-login"}[title]
		assert.Equal(t, []string{"W GET /a: " + title},
			kinds(item(crossings, "GET /a", "ann", access.Sound, gap(finding.WrongRefusal, cause, "role"))))
	}
}

func TestGlob(t *testing.T) {
	for _, c := range []struct {
		pattern, text string
		want          bool
	}{
		{"**/login**", "/login?next=/", true}, {"**/login**", "https://id.example/a/login", true},
		{"**/login**", "/logins", true}, {"**/login**", "/log", false},
		{"/login", "/login", true}, {"/login", "/login/", false}, {"/a*z", "/abcz", true}, {"/a.b", "/axb", false},
		{"*", "", true},
	} {
		assert.Equal(t, c.want, check.Glob(c.pattern, c.text), "%s %s", c.pattern, c.text)
	}
}
