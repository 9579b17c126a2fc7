package inventory

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/declaration"
	"millgate/core/route"
)

// State of a route that comes in.
type State string

const (
	New     State = "new"
	Changed State = "changed" // known, and something is said of it that differs
	Same    State = "same"
	Gone    State = "gone"    // known from this source, and not in it any more
	Unclear State = "unclear" // it cannot be said which route it is
)

// Incoming is one route from somewhere.
type Incoming struct {
	Key         string // METHOD [host:]/path
	Summary     string
	Effect      string // "" when it says nothing
	Sensitivity string
	Group       string
	Sample      declaration.Sample
	Count       int // how often it was seen; 0 when that is not known
	Paths       []string
	Unclear     string
	Under       string // the place of what is unclear, as Said names it
	Line        int
}

// Item is one line of a merge.
type Item struct {
	Incoming
	State State
	Note  string // what differs, or why it is unclear
}

// Merge holds incoming routes against those of a document. whole says that the
// source lists all routes that it stands for, so that a known one of the same
// origin that is missing is gone; origin is the file that the known ones came
// from, "" for those written by hand.
func Merge(d *declaration.Document, in []Incoming, whole bool, origin string) []Item {
	var out []Item
	met := make([]bool, len(d.Routes))
	byTemplate := map[string]int{}
	for i, r := range d.Routes {
		byTemplate[r.Method()+" "+r.TemplateKey()] = i
	}
	for _, x := range in {
		it := Item{Incoming: x, State: New}
		sel, err := route.ParseTemplate(x.Key)
		if err != nil {
			it.State, it.Note = Unclear, err.Error()
			out = append(out, it)
			continue
		}
		i, known := byTemplate[sel.Method()+" "+sel.TemplateKey()]
		switch {
		case known:
			met[i] = true
			it.State = Same
			if diff := differs(d.Routes[i], sel, x); len(diff) > 0 {
				it.State, it.Note = Changed, strings.Join(diff, "; ")
			}
			it.Key = d.Routes[i].Key()
			if sel.String() != it.Key && origin != "" && d.Routes[i].From == origin {
				it.Key = sel.String()
			}
		case x.Unclear != "":
			it.State, it.Note = Unclear, x.Unclear
		}
		out = append(out, it)
	}
	for i, r := range d.Routes {
		if !met[i] && whole && r.From == origin {
			out = append(out, Item{Incoming: Incoming{Key: r.Key(), Summary: r.Summary, Line: r.Line}, State: Gone,
				Note: "the declaration has it, this does not"})
		}
	}
	rank := map[State]int{Unclear: 0, New: 1, Changed: 2, Gone: 3, Same: 4}
	slices.SortStableFunc(out, func(a, b Item) int { return rank[a.State] - rank[b.State] })
	return out
}

func differs(r *declaration.Route, sel route.Selector, x Incoming) (out []string) {
	if x.Summary != "" && x.Summary != r.Summary {
		out = append(out, fmt.Sprintf("summary %q", x.Summary))
	}
	if x.Effect != "" && x.Effect != string(r.Effect) {
		out = append(out, fmt.Sprintf("effect %s in place of %s", x.Effect, r.Effect))
	}
	if x.Sensitivity != "" && x.Sensitivity != string(r.Sensitivity) {
		out = append(out, fmt.Sprintf("sensitivity %s in place of %s", x.Sensitivity, r.Sensitivity))
	}
	if x.Group != "" && x.Group != r.Group {
		out = append(out, fmt.Sprintf("group %s", x.Group))
	}
	if a, b := sel.Parameters(), r.Parameters(); !slices.Equal(a, b) && x.Count == 0 {
		out = append(out, fmt.Sprintf("its parameters are called %s", strings.Join(a, ", ")))
	}
	if x.Sample.HasBody() && !r.Send.HasBody() && x.Count > 0 {
		out = append(out, "a body to send")
	}
	return out
}
