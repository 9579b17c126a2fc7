package probe

import (
	"maps"
	"net/url"
	"sort"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/route"
)

// Request is a probe as it goes out, still with {placeholders} where an
// identity's values belong, and without a credential.
type Request struct {
	Method  string
	Host    string // name of a host of the target, "" is its base
	Path    string // percent-encoded, not normalised
	Query   string // encoded
	Headers [][2]string
	Body    []byte
	As      string // the identity whose values fill the placeholders
}

// FillPath puts values in place of {parameters}, leaving everything else of
// the path as it stands.
func FillPath(path string, values map[string]string) string {
	for k, v := range values {
		path = strings.ReplaceAll(path, "{"+k+"}", route.EscapeSegment(v))
	}
	return path
}

// Build makes the request of a probe. recordID is the id behind its record
// parameter; it is used only when the probe has one.
func Build(d *declaration.Document, p *Probe, recordID string) Request {
	q := Request{Method: p.Method, Host: p.Host, As: p.Identity}
	values := map[string]string{}
	for k, v := range p.Params {
		values[k] = v
	}
	if p.Record.Param != "" {
		values[p.Record.Param] = recordID
	}
	q.Path = FillPath(p.Path, values)
	if p.Route >= 0 {
		rt := d.Routes[p.Route]
		qs := url.Values{}
		for k, v := range rt.Send.Query {
			qs.Set(k, v)
		}
		q.Query = qs.Encode()
		for _, k := range sorted(rt.Send.Headers) {
			q.Headers = append(q.Headers, [2]string{k, rt.Send.Headers[k]})
		}
		if rt.Send.As.Name != "" {
			q.As = rt.Send.As.Name
		}
		if p.WithBody {
			_, session := access.SessionAt(d, p.Route)
			q.body(rt.Send, session)
		}
	}
	return q
}

// LinkParams are the parameters that a link is asked for with: those of the request.
func (p *Probe) LinkParams(recordID string) map[string]string {
	out := maps.Clone(p.Params)
	if out == nil {
		out = map[string]string{}
	}
	if p.Record.Param != "" {
		out[p.Record.Param], out["id"] = recordID, recordID
	}
	return out
}

func sorted(m map[string]string) []string {
	k := make([]string, 0, len(m))
	for s := range m {
		k = append(k, s)
	}
	sort.Strings(k)
	return k
}

// body takes the sample, or else the body of the session request.
func (q *Request) body(s declaration.Sample, session *declaration.Request) {
	var headers [][2]string
	headers, q.Body = check.SampleBody(s, session)
	q.Headers = append(q.Headers, headers...)
}
