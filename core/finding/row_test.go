package finding

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestARowIsFoundByItsCause(t *testing.T) {
	row := func(k Kind, cause string) *Row {
		return &Row{Cause: cause, Kind: k, Title: "Shows {what}", Means: "It is shown.", Advice: "Mend {route}.",
			OWASP: API3, CWE: 200}
	}
	exact, field, deeper := row(Leaking, "account"), row(Leaking, "field "), row(Leaking, "field of ")
	family := func(rows ...*Row) Family {
		return Family{Name: "answers", Title: "Answers", Shown: "Seen.", Refuted: "Not seen.", Rows: rows}
	}
	deeper.Shown = "Seen in a list."
	c := NewCatalogue(family(exact), family(field, deeper))
	assert.Equal(t, "Seen.", c.Shown(field))
	assert.Equal(t, "Seen in a list.", c.Shown(deeper))
	assert.Equal(t, "Not seen.", c.Refuted(deeper))
	assert.Equal(t, "l-field-of", deeper.Anchor())
	for cause, want := range map[string]*Row{"account": exact, "field password": field, "field of a list": deeper,
		"field ": field} {
		got, ok := c.Row(Leaking, cause)
		assert.True(t, ok, cause)
		assert.Same(t, want, got, cause)
	}
	assert.Equal(t, "Shows password", field.TitleOf("field password"))
	assert.Equal(t, "Mend GET /a.", field.AdviceFor("GET /a"))
	for _, cause := range []string{"accounts", "fields", ""} {
		got, ok := c.Row(Leaking, cause)
		assert.False(t, ok, cause)
		assert.Equal(t, "leaking: "+cause, got.Title, "it is said all the same")
	}
	_, ok := c.Row(Unprotected, "account")
	assert.False(t, ok, "the kind belongs to the name")
	assert.Panics(t, func() { NewCatalogue(family(exact, row(Leaking, "account"))) }, "two rows of one name")
	assert.Panics(t, func() { NewCatalogue(family(&Row{Cause: "x", Kind: Leaking, Title: "X"})) },
		"a row without advice")
	assert.Panics(t, func() { NewCatalogue(family(row(Leaking, "a b"), row(Leaking, "a.b"))) },
		"two rows of one anchor")
	assert.Panics(t, func() { NewCatalogue(Family{Name: "x"}) }, "a family that says nothing")
	assert.Panics(t, func() { NewCatalogue(family(row(Agrees, "x"))) }, "what is no gap")
	same := row(Leaking, "bank account")
	same.Same = "account"
	assert.NotPanics(t, func() { NewCatalogue(family(same, exact)) })
	assert.Panics(t, func() { NewCatalogue(family(same)) }, "the same as nothing")
}

func TestWhatAFamilyIsMostlyAbout(t *testing.T) {
	rows := func(list ...OWASP) (f Family) {
		for _, o := range list {
			f.Rows = append(f.Rows, &Row{OWASP: o})
		}
		return f
	}
	assert.Equal(t, API3, rows(API1, API3, API3).Mostly())
	assert.Equal(t, API1, rows(API1, API3).Mostly(), "the first of as many")
	assert.Equal(t, API1, rows(API1, API3, API1, API3).Mostly())
	assert.Empty(t, rows().Mostly())
}
