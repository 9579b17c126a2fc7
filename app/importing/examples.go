package importing

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/byexample"
	"millgate/core/declaration"
)

// mostExamples is how many requests of a recording are looked at for how the service is called.
const mostExamples = 2000

// called proposes what a recording shows of how a service is called: where it is, what proves who calls, what logs in,
// how long that lives. Its callers have secrets, which an import keeps nowhere; where to bring them is a note.
func called(p *Preview, list []*byexample.Request, doc *declaration.Document) {
	if len(list) == 0 {
		return
	}
	t := targetAt(p.Origin, doc)
	elsewhere := false
	taken := func(r *byexample.Request) bool {
		_, _, ok := t.On(r.Address())
		return ok
	}
	if len(doc.Targets) > 0 && (t == nil || !slices.ContainsFunc(list, taken)) {
		here := *doc.Targets[0]
		here.Base, here.Hosts = p.Origin, nil // what was recorded elsewhere is as it would be there
		t, elsewhere = &here, true
	}
	list = list[:min(len(list), mostExamples)]
	var callers, lacks []string
	for _, x := range byexample.Read(doc, t, list).Proposals {
		if x.Kind == byexample.Host && elsewhere {
			// It is a host of where it was recorded, and none of the target.
			lacks = append(lacks, x.Field+":/")
			p.Notes = append(p.Notes, fmt.Sprintf("Callers log in or prove themselves at %s, too. Say which host of "+
				"the target that is (hosts), and bring it in again for how they do.", x.Text))
			continue
		}
		if slices.ContainsFunc(lacks, func(host string) bool { return strings.Contains(x.Text, host) }) {
			continue
		}
		switch x.Kind {
		case byexample.Host, byexample.Target, byexample.Scheme, byexample.Lifetime, byexample.Pages:
			title := strings.ToUpper(x.ID[:1]) + x.ID[1:]
			if x.Kind == byexample.Pages {
				title = "Pages of other origins"
			}
			p.Proposals = append(p.Proposals, Proposal{ID: x.ID, Title: title, Text: x.Line(), Note: x.Why,
				edits: x.Edits(doc)})
		case byexample.Identity:
			callers = append(callers, x.Name)
		case byexample.Header:
			p.Notes = append(p.Notes,
				fmt.Sprintf("Every request carries %s, the same for all callers: By example adds "+
					"it to the target, sealed.", x.Field))
		case byexample.Route, byexample.Record:
		}
	}
	if len(callers) > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("Callers seen in it: %s. Bring it in with Callers, By example, to write "+
			"who calls and what is theirs, with the secrets sealed.", strings.Join(callers, ", ")))
	}
}
