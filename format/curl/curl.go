// Package curl writes a probe as a command line that a person can run. Secrets
// stand in it as environment variables, which the command does not set: a line in front says how
// each is filled.
package curl

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/declaration"
	"millgate/core/field"
	"millgate/core/route"
)

var notPlain = regexp.MustCompile(`[^A-Z0-9]+`)

// Variable is the name of the environment variable for a secret value, made
// from words.
func Variable(words ...string) string {
	s := strings.ToUpper(strings.Join(words, "_"))
	return notPlain.ReplaceAllString(s, "_")
}

// Quote puts text in single quotes for a POSIX shell.
func Quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// open puts text in double quotes, so that $NAME in it is filled by the shell.
func open(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "`", "\\`", "$", `\$`, "\x01", "$").Replace(s) + `"`
}

// callOf is what a probe sends, still with {names} in its body. Where it sends nothing, it is
// the request of its route.
func callOf(d *declaration.Document, t *declaration.Target, p *check.Probe, recordID string,
	call *check.Call) check.Call {
	if call != nil {
		out := *call
		out.Request = call.Request.OnID(recordID)
		return out
	}
	i := d.RouteNamed(p.Route)
	if i < 0 {
		return check.Call{}
	}
	return check.Call{Request: check.RequestOf(&check.Context{Doc: d, Target: t}, p, i, d.Routes[i].Path(),
		check.ParamsOf(p))}
}

// reach are the lines that say how a target is reached, and mark the request as one by hand; sent are
// the fields of the request.
func reach(t *declaration.Target, sent field.List) (lines []string) {
	if t.CA.Name != "" {
		lines = append(lines, "  --cacert "+Quote(t.CA.Name))
	}
	if t.Client.Cert.Name != "" {
		lines = append(lines, "  --cert "+Quote(t.Client.Cert.Name)+" --key "+open("\x01"+Variable(t.Name,
			"KEY", "FILE")))
	}
	if t.Mark != "" {
		lines = append(lines, "  -H "+Quote(t.Mark+": by-hand"))
	}
	for _, h := range t.Headers {
		value := h.Value.Literal
		if h.Value.Secret() {
			value = "\x01" + Variable(t.Name, h.Name)
		}
		if !sent.Has(h.Name) {
			lines = append(lines, "  -H "+open(h.Name+": "+value))
		}
	}
	return lines
}

// Get writes a request for an address of a target with one field.
func Get(t *declaration.Target, name, value, address string) string {
	sent := field.List{{name, value}}
	lines := append([]string{"curl -sS -i"}, reach(t, sent)...)
	return strings.Join(append(lines, "  -H "+Quote(name+": "+value), "  "+Quote(address)), " \\\n")
}

// Command writes a call of a probe against a target; a nil one is a probe that sends nothing.
// recordID is the id behind its record parameter.
func Command(d *declaration.Document, t *declaration.Target, p *check.Probe, recordID string,
	call *check.Call) string {
	sent := callOf(d, t, p, recordID, call)
	q := sent.Request
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
	lines = append(lines, reach(t, q.Headers)...)
	for _, h := range q.Headers {
		header(Quote(h[0] + ": " + h[1]))
	}
	query := q.Query
	var as check.Present
	if len(sent.As) > 0 {
		as = sent.As[0]
	}
	if s := d.SchemeNamed(as.Scheme); s != nil {
		who := as.Identity
		switch {
		case as.Way != "":
			who = as.Way
		case as.State == access.Broken:
			who = "BROKEN"
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
			f := q.Fill[n]
			if slices.Contains(q.Needs, n) {
				f.Identity = q.NeedsOf
			} else if f == (check.Fill{}) { // nothing stands there
				body = strings.ReplaceAll(body, "{"+n+"}", "")
				continue
			}
			who := f.Identity
			if f.Made != "" {
				who = f.Made + "_" + p.Caller.Identity
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
	return how(d, as) + strings.Join(lines, " \\\n")
}

// how is the line that says how the variables of a credential are filled, "" without one. It is one
// line, whatever stands in a name.
func how(d *declaration.Document, as check.Present) string {
	s := d.SchemeNamed(as.Scheme)
	if s == nil {
		return ""
	}
	return "# " + strings.Join(strings.Fields(filled(s, as)), " ") + "\n"
}

// filled says how the variables of a credential are filled.
func filled(s *declaration.Scheme, as check.Present) string {
	who := as.Identity
	if who == "" {
		who = "somebody"
	}
	name := func(what string) string {
		of := as.Identity
		switch {
		case as.Way != "":
			of = as.Way
		case as.State == access.Broken:
			of = "BROKEN"
		}
		return Variable(of, s.Name, what)
	}
	send := func(q *declaration.Request) string { return q.Method + " " + route.Hosted(q.Host, q.Path) }
	out := ""
	switch {
	case s.Kind == declaration.Bearer && s.Login != nil:
		out = fmt.Sprintf("%s is what %s gives %s at %s", name("TOKEN"), send(s.Login), who, s.Login.Take["access"])
	case s.Kind == declaration.Bearer:
		out = fmt.Sprintf("%s is the token of %s for %s", name("TOKEN"), who, s.Name)
	case s.Kind == declaration.Basic:
		out = fmt.Sprintf("%s is the base64 of %s's username:password", name("USER_AND_PASSWORD"), who)
	case s.Kind == declaration.Cookie && s.Login != nil:
		out = fmt.Sprintf("%s is the cookie %s that %s sets for %s", name("COOKIE"), s.Field, send(s.Login), who)
	case s.Kind == declaration.Cookie:
		out = fmt.Sprintf("%s is the cookie %s of %s", name("COOKIE"), s.Field, who)
	case s.Kind == declaration.Signature:
		out = fmt.Sprintf("%s is the %s of %s with the secret of %s, as %s", name("SIGNATURE"), s.Signing.Algorithm,
			s.Signing.Covers, who, s.Signing.Encoding)
		if s.Signing.Timestamp != "" {
			out += fmt.Sprintf("; %s is now, in seconds since 1970", name("TIME"))
		}
	case s.Kind == declaration.Link && s.Issue != nil:
		out = fmt.Sprintf("what is missing stands in the link that %s gives %s", send(s.Issue), who)
	case s.Kind == declaration.Link:
		out = fmt.Sprintf("what is missing stands in the link that %s was sent", who)
	default:
		out = fmt.Sprintf("%s is the key of %s for %s", name("KEY"), who, s.Name)
	}
	switch {
	case as.Way != "":
		out += ", then broken: " + as.Way
	case as.State == access.Broken:
		out += ", then changed, so that it does not hold"
	}
	return out
}

// Status is a command that prints no more than the status of the answer, for a script. What says how its
// variables are filled is left out.
func Status(command string) string {
	if how, rest, ok := strings.Cut(command, "\n"); ok && strings.HasPrefix(how, "# ") {
		command = rest
	}
	return strings.Replace(command, " -sS -i ", " -sS -o /dev/null -w '%{http_code}' ", 1)
}
