// Package curl writes a probe as a command line that a person can run. Secrets
// stand in it as environment variables, which the command does not set.
package curl

import (
	"regexp"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/probe"
)

var notPlain = regexp.MustCompile(`[^A-Z0-9]+`)

// Variable is the name of the environment variable for a secret value, made
// from words.
func Variable(words ...string) string {
	s := strings.ToUpper(strings.Join(words, "_"))
	return notPlain.ReplaceAllString(s, "_")
}

// quote puts text in single quotes for a POSIX shell.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// open puts text in double quotes, so that $NAME in it is filled by the shell.
func open(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "`", "\\`", "$", `\$`, "\x01", "$").Replace(s) + `"`
}

// requestOf is what a probe sends, still with {names} in its body.
func requestOf(d *declaration.Document, p *probe.Probe, recordID string, call *check.Call) probe.Request {
	q := probe.Build(d, p, recordID)
	if call == nil {
		return q
	}
	r := call.Request.OnID(recordID)
	return probe.Request{Method: r.Method, Host: r.Host, Path: r.Path, Query: r.Query, Headers: r.Headers,
		Body: r.Body, As: q.As}
}

// Command writes the probe against a target. recordID is the id behind its
// record parameter; call is what a probe of a family sends, nil for the others.
func Command(d *declaration.Document, t *declaration.Target, p *probe.Probe, recordID string,
	call *check.Call) string {
	q := requestOf(d, p, recordID, call)
	base := t.Base
	switch q.Host {
	case "":
	case check.DirectHost:
		base = t.Direct
	default:
		base = t.Hosts[q.Host]
	}
	url := base + q.Path
	lines := []string{"curl --path-as-is -sS -i -X " + q.Method}
	header := func(quoted string) { lines = append(lines, "  -H "+quoted) }
	for _, h := range q.Headers {
		header(quote(h[0] + ": " + h[1]))
	}
	query := q.Query
	if s := d.SchemeNamed(p.Scheme); s != nil && p.Kind != probe.Issued &&
		(call == nil || len(call.As) > 0) {
		who := p.Identity
		if p.State == access.Broken {
			who = "BROKEN"
		}
		if p.Kind == probe.Credential {
			who = p.Way
		}
		name := func(what string) string { return "\x01" + Variable(who, s.Name, what) }
		switch {
		case s.Kind == declaration.Bearer:
			header(open("Authorization: Bearer " + name("TOKEN")))
		case s.Kind == declaration.Basic:
			header(open("Authorization: Basic " + name("USER_AND_PASSWORD")))
		case s.Kind == declaration.Cookie:
			header(open("Cookie: " + s.Field + "=" + name("COOKIE")))
		case s.Kind == declaration.Signature:
			if s.Signing.Timestamp != "" {
				header(open(s.Signing.Timestamp + ": " + name("TIME")))
			}
			header(open(s.Field + ": " + name("SIGNATURE")))
		case s.Kind == declaration.Link:
			query = strings.TrimPrefix(query+"&"+s.Expires+"="+name("END")+"&"+s.Field+"="+name("SIGNATURE"), "&")
		case s.In == "query":
			query = strings.TrimPrefix(query+"&"+s.Field+"="+name("KEY"), "&")
		case s.In == "cookie":
			header(open("Cookie: " + s.Field + "=" + name("KEY")))
		default:
			header(open(s.Field + ": " + name("KEY")))
		}
	}
	if len(q.Body) > 0 {
		body := string(q.Body)
		req := declaration.Request{JSON: q.Body}
		for _, n := range req.Placeholders() {
			who := q.As
			if call != nil {
				f := call.Request.Fill[n]
				if slices.Contains(call.Request.Needs, n) {
					f.Identity = call.Request.NeedsOf
				} else if f == (check.Fill{}) { // nothing stands there
					body = strings.ReplaceAll(body, "{"+n+"}", "")
					continue
				}
				if who = f.Identity; f.Made != "" {
					who = f.Made + "_" + p.Identity
				}
			}
			if who == "" {
				who = "SAMPLE"
			}
			body = strings.ReplaceAll(body, "{"+n+"}", "\x01"+Variable(who, n))
		}
		lines = append(lines, "  --data-binary "+open(body))
	}
	if query != "" {
		url += "?" + query
	}
	lines = append(lines, "  "+open(url))
	return strings.Join(lines, " \\\n")
}
