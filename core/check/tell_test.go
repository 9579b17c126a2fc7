package check

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/declaration"
	"millgate/core/field"
)

func TestAScriptFromTopToBottom(t *testing.T) {
	type measured struct{ Calls int }
	script := func() Script {
		return Tell(func(t *Telling) {
			m := &measured{}
			t.Measured(m)
			for range 3 {
				m.Calls++
				if r := t.One(Call{Name: "ask"}); r.Fate != Answered {
					return
				}
				t.Wait(time.Second)
			}
			t.Send() // nothing is no step
			t.Keep(t.Send(Call{Name: "a"}, Call{Name: "b"})[1])
		})
	}
	s := script()
	answered := []Report{{Name: "ask", Fate: Answered}}
	for i := range 3 {
		at := time.Duration(i) * 2 * time.Second
		require.Len(t, s.Next(at, answered).Send, 1)
		assert.Equal(t, at+1500*time.Millisecond, s.Next(at+500*time.Millisecond, answered).Wait,
			"counted from the script's beginning")
	}
	assert.Len(t, s.Next(9*time.Second, nil).Send, 2)
	assert.True(t, s.Next(9*time.Second, []Report{{Name: "a"}, {Name: "b"}}).Ends())
	assert.True(t, s.Next(9*time.Second, nil).Ends(), "it has ended")
	d, kept := s.Data()
	assert.Equal(t, &measured{3}, d)
	assert.Equal(t, []string{"ask", "ask", "ask", "b"}, names(kept))

	// Given up: what it kept and measured stays, the rest of the function is not run.
	s = script()
	s.Next(0, nil)
	s.Next(0, answered)
	d, kept = s.Data()
	assert.Equal(t, &measured{1}, d)
	assert.Len(t, kept, 1)

	// Given up before it began, and ended by itself.
	_, kept = script().Data()
	assert.Empty(t, kept)
	s = script()
	s.Next(0, nil)
	assert.True(t, s.Next(0, []Report{{Fate: Lost}}).Ends())

	assert.Panics(t, func() { Tell(func(*Telling) { panic("a mistake") }).Next(0, nil) }, "a mistake is not swallowed")
}

func names(list []Report) (out []string) {
	for _, r := range list {
		out = append(out, r.Name)
	}
	return out
}

func TestTemplates(t *testing.T) {
	fill := func(n string) (Fill, bool) {
		f, ok := map[string]Fill{"name": {Identity: "ann", Scheme: "s", Name: "name"}, "refresh": {Slot: "refresh"}}[n]
		return f, ok
	}
	r := Template(&declaration.Request{Method: "POST", Host: "id", Path: "/in/{name}",
		JSON: []byte(`{"n":"{name}","q":"{me}"}`)}, fill)
	assert.Equal(t, `{"n":"{name}","q":"{me}"}`, string(r.Body))
	assert.Equal(t, map[string]Fill{"name": {Identity: "ann", Scheme: "s", Name: "name"}}, r.Fill, "other braces stay")
	assert.Equal(t, field.List{{"Content-Type", "application/json"}}, r.Headers)
	r = Template(&declaration.Request{Form: [][2]string{{"x y", "a{refresh}&b"}, {"a", "{me} {name}"}}}, fill)
	assert.Equal(t, "a=%7Bme%7D+{name}&x+y=a{refresh}%26b", string(r.Body))
	var parts []string
	for before, name := range Names(`a{b}{c d}{{e}"{f"}`) {
		parts = append(parts, before+"|"+name)
	}
	assert.Equal(t, []string{"a|b", "|c d", "{|e", `"{f"}|`}, parts)
}
