package importing

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/byexample"
	"millgate/core/declaration"
	"millgate/format/har"
)

// mostExamples is how many requests of a recording are looked at for how the service is called.
const mostExamples = 2000

// called proposes what a recording shows of how a service is called: where it is, what proves who calls, what logs
// in, how
// long that lives. Its callers have secrets, which an import keeps nowhere; where to bring them is a note.
func called(p *Preview, q Request, doc *declaration.Document) {
	list, err := har.Examples([]byte(q.Files[0].Text))
	if err != nil {
		return // what cannot be read of it is said already
	}
	list = slices.DeleteFunc(list, func(r *byexample.Request) bool {
		return r.URL.Scheme+"://"+r.URL.Host != p.Origin || r.Method == "OPTIONS"
	})
	list = list[:min(len(list), mostExamples)]
	var t *declaration.Target
	for _, x := range doc.Targets {
		if t == nil || strings.HasPrefix(x.Base, p.Origin) {
			here := *x
			here.Base = p.Origin // the routes of an import are addressed from there
			t = &here
		}
	}
	var callers []string
	for _, x := range byexample.Read(doc, t, list).Proposals {
		switch x.Kind {
		case byexample.Target, byexample.Scheme, byexample.Lifetime:
			p.Proposals = append(p.Proposals, Proposal{ID: x.ID, Title: strings.ToUpper(x.ID[:1]) + x.ID[1:],
				Text: x.Line(),
				Note: x.Why, edits: x.Edits(doc)})
		case byexample.Identity:
			callers = append(callers, x.Name)
		case byexample.Route, byexample.Header, byexample.Record:
		}
	}
	if len(callers) > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("Callers seen in it: %s. Bring it in with Callers, By example, to write "+
			"who calls and what is theirs, with the secrets sealed.", strings.Join(callers, ", ")))
	}
}
