package pasted

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"

	"millgate/core/byexample"
	"millgate/core/declaration"
)

// aCurl is where a command begins, behind a prompt or what keeps what it says.
var aCurl = regexp.MustCompile(`(?m)^[ \t]*(?:\$ )?(?:\w+=\$\()?curl(?:\.exe)?(?:[ \t^\\]|$)`)

func isCurl(text string) bool { return aCurl.MatchString(text) }

// words is a command with the line where it begins, and what of its words was not understood.
type words struct {
	list   []string
	line   int
	unread []string
}

// shell reads the curl commands of a text for a POSIX shell. A variable stays as $NAME; what another command would say
// is not known.
func shell(text string) ([]*byexample.Request, error) {
	lines := strings.Split(text, "\n")
	for k, l := range lines {
		lines[k] = strings.TrimPrefix(l, "$ ") // as manuals show them
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(strings.Join(lines, "\n")),
		"")
	if err != nil {
		var at syntax.ParseError
		if errors.As(err, &at) {
			return nil, fmt.Errorf("%w: line %d: %s", ErrNothing, at.Pos.Line(), at.Text)
		}
		return nil, fmt.Errorf("%w: %s", ErrNothing, err)
	}
	var commands []words
	syntax.Walk(file, func(n syntax.Node) bool {
		call, ok := n.(*syntax.CallExpr)
		if !ok || len(call.Args) == 0 {
			return true
		}
		w := words{line: int(call.Pos().Line())} //nolint:gosec // lines of a text of 4 MB
		named := map[string]bool{}
		cfg := &expand.Config{Env: expand.FuncEnviron(func(name string) string {
			if named[name] {
				return "$" + name
			}
			return ""
		})}
		for _, a := range call.Args {
			syntax.Walk(a, func(n syntax.Node) bool {
				if p, ok := n.(*syntax.ParamExp); ok && p.Param != nil && !named[p.Param.Value] {
					named[p.Param.Value] = true
					w.unread = append(w.unread, "what $"+p.Param.Value+" stands for")
				}
				return true
			})
			s, err := expand.Literal(cfg, a)
			if err != nil {
				w.unread = append(w.unread, "a word that another command says: "+cut(source(text, a)))
				s = strings.Trim(source(text, a), `"`)
			}
			w.list = append(w.list, s)
		}
		commands = append(commands, w)
		return false
	})
	return curls(commands)
}

func source(text string, n syntax.Node) string {
	from, to := int(n.Pos().Offset()), int(n.End().Offset()) //nolint:gosec // of a text of 4 MB
	if from > to || to > len(text) {
		return ""
	}
	return text[from:to]
}

// windows says whether a command is one for the command line of Windows: ^ stands where a shell has \.
func windows(text string) bool {
	return strings.Contains(text, "^\n") || strings.Contains(text, `^"`) || strings.HasPrefix(text, "curl.exe") ||
		!strings.Contains(text, "'") && strings.Contains(text, `{\"`) && !strings.Contains(text, "\\\n")
}

// cmdWords takes a text apart as cmd.exe does, and the command that it then starts: ^ keeps the next character from
// meaning anything, behind " only \" and "" do. A line ends a command, unless ^ stands before its end.
func cmdWords(text string) (out []words) {
	var plain []rune // as the command gets it; a line end that ends a command is 0
	quoted := false
	rs := []rune(text)
	for i := 0; i < len(rs); i++ {
		switch c := rs[i]; {
		case c == '^' && !quoted && i+1 < len(rs):
			if i++; rs[i] == '\n' { // the line goes on, and what begins it means nothing
				if i++; i < len(rs) {
					plain = append(plain, rs[i])
				}
				continue
			}
			plain = append(plain, rs[i])
		case c == '\n' && !quoted:
			plain = append(plain, 0)
		case c == '"':
			quoted = !quoted
			plain = append(plain, c)
		default:
			plain = append(plain, c)
		}
	}
	w := words{line: 1}
	var word []rune
	in, any := false, false
	line := 1
	end := func() {
		if any {
			w.list = append(w.list, string(word))
		}
		word, any = nil, false
	}
	for i := 0; i < len(plain); i++ {
		c := plain[i]
		n := 0
		for c == '\\' && i+n < len(plain) && plain[i+n] == '\\' {
			n++
		}
		switch {
		case n > 0 && i+n < len(plain) && plain[i+n] == '"':
			word = append(word, []rune(strings.Repeat(`\`, n/2))...)
			if any = true; n%2 == 1 {
				word = append(word, '"')
				i++
			}
			i += n - 1
		case c == '"' && in && i+1 < len(plain) && plain[i+1] == '"':
			word = append(word, '"')
			i++
		case c == '"':
			in, any = !in, true
		case c == 0 || c == '\n' && !in:
			line++
			if end(); c == 0 && len(w.list) > 0 {
				out = append(out, w)
				w = words{}
			}
			if len(w.list) == 0 {
				w.line = line
			}
		case !in && (c == ' ' || c == '\t'):
			end()
		default:
			word, any = append(word, c), true
		}
	}
	if end(); len(w.list) > 0 {
		out = append(out, w)
	}
	return out
}

// curls reads commands; those that are not curl are left out.
func curls(commands []words) (out []*byexample.Request, err error) {
	for _, w := range commands {
		name := w.list[0]
		if name = name[strings.LastIndexAny(name, `/\`)+1:]; name != "curl" && name != "curl.exe" {
			continue
		}
		r, err := curl(w)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", w.line, err)
		}
		out = append(out, r)
	}
	return out, nil
}

// command is a curl command as its options say it.
type command struct {
	r      *byexample.Request
	method string
	urls   []string
	data   []string
	get    bool
	head   bool
	json   bool
	multi  [][2]string
}

// Options by what they say: those with a value that may say who calls, or that something is not known; and those that
// say nothing of it, about the connection, the output and retries, with a value and without. letters are short forms.
var (
	saying = strings.Fields(`--request --header --data --data-raw --data-binary --data-ascii --data-urlencode --json
		--form --form-string --user --cookie --user-agent --referer --url --oauth2-bearer --url-query
		--config --proxy --proxy-user --cacert --capath --cert --key --cert-type --key-type --pass --resolve --connect-to
		--interface --upload-file --range --aws-sigv4 --unix-socket --tls-max --ciphers --netrc-file --noproxy
		--dns-servers`)
	valued = strings.Fields(`--output --write-out --max-time --connect-timeout --retry --retry-delay --retry-max-time
		--cookie-jar --limit-rate --dump-header --trace --trace-ascii --stderr --max-redirs --max-filesize
		--keepalive-time`)
	plain = strings.Fields(`--silent --show-error --include --verbose --location --compressed --insecure --fail --globoff
		--path-as-is --http1.0 --http1.1 --http2 --http2-prior-knowledge --http3 --no-buffer --progress-bar --ipv4 --ipv6
		--location-trusted --fail-with-body --tlsv1.2 --tlsv1.3 --no-progress-meter --no-keepalive --raw --remote-name
		--parallel`)
	letters = map[byte]string{'X': "--request", 'H': "--header", 'd': "--data", 'F': "--form", 'u': "--user",
		'b': "--cookie", 'A': "--user-agent", 'e': "--referer", 'o': "--output", 'w': "--write-out", 'm': "--max-time",
		'c': "--cookie-jar", 'D': "--dump-header", 'K': "--config", 'x': "--proxy", 'U': "--proxy-user", 'E': "--cert",
		'T': "--upload-file", 'r': "--range", 'G': "--get", 'I': "--head", 's': "--silent", 'S': "--show-error",
		'i': "--include", 'v': "--verbose", 'L': "--location", 'k': "--insecure", 'f': "--fail", 'g': "--globoff",
		'N': "--no-buffer", '0': "--http1.0", '4': "--ipv4", '6': "--ipv6", '#': "--progress-bar", 'O': "--remote-name",
		'n': "--netrc", 'Z': "--parallel"}
)

func takesValue(option string) bool {
	return slices.Contains(saying, option) || slices.Contains(valued, option)
}

func curl(w words) (*byexample.Request, error) {
	c := command{r: &byexample.Request{Form: byexample.Curl, Line: w.line, Unread: w.unread}}
	args := w.list[1:]
	for i := 0; i < len(args); i++ {
		a := args[i]
		next := func() string {
			if i++; i < len(args) {
				return args[i]
			}
			c.r.Miss("the value of " + a + ", which is missing")
			return ""
		}
		switch {
		case strings.HasPrefix(a, "--") && len(a) > 2:
			if !takesValue(a) {
				c.option(a, "")
				continue
			}
			c.option(a, next())
		case strings.HasPrefix(a, "-") && len(a) > 1:
			for k := 1; k < len(a); k++ {
				long, ok := letters[a[k]]
				switch {
				case !ok:
					c.r.Miss("the option -" + a[k:k+1])
				case !takesValue(long):
					c.option(long, "")
				case k+1 < len(a):
					c.option(long, a[k+1:])
					k = len(a)
				default:
					c.option(long, next())
				}
			}
		default:
			c.urls = append(c.urls, a)
		}
	}
	return c.request()
}

// option takes one in.
func (c *command) option(name, value string) {
	switch name {
	case "--request":
		c.method = strings.ToUpper(value)
	case "--header":
		n, v, ok := strings.Cut(value, ":")
		if n = strings.TrimSpace(n); n == "" || !ok {
			c.r.Miss("the header " + cut(value))
			return
		}
		c.r.Add(n, strings.TrimSpace(v))
	case "--data", "--data-ascii", "--data-binary", "--json":
		if strings.HasPrefix(value, "@") {
			c.r.Miss("a body that stands in the file " + value[1:])
			value = ""
		}
		c.data = append(c.data, value)
		c.json = c.json || name == "--json"
	case "--data-raw":
		c.data = append(c.data, value)
	case "--data-urlencode":
		c.data = append(c.data, c.encoded(value))
	case "--url-query":
		c.r.Miss("--url-query, whose query is left out")
	case "--form", "--form-string":
		n, v, _ := strings.Cut(value, "=")
		c.multi = append(c.multi, [2]string{n, v})
	case "--user":
		c.r.Add("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(value)))
	case "--oauth2-bearer":
		c.r.Add("Authorization", "Bearer "+value)
	case "--cookie":
		if !strings.Contains(value, "=") {
			c.r.Miss("cookies that stand in the file " + value)
			return
		}
		c.r.Add("Cookie", value)
	case "--user-agent":
		c.r.Add("User-Agent", value)
	case "--referer":
		c.r.Add("Referer", value)
	case "--url":
		c.urls = append(c.urls, value)
	case "--get":
		c.get = true
	case "--head":
		c.head = true
	default:
		if !slices.Contains(valued, name) && !slices.Contains(plain, name) {
			c.r.Miss("the option " + strings.TrimSpace(name+" "+cut(value)))
		}
	}
}

// encoded is the data of --data-urlencode: content, =content, name=content; of a file nothing is known.
func (c *command) encoded(value string) string {
	n, v, has := strings.Cut(value, "=")
	switch {
	case !has && strings.Contains(value, "@"):
		c.r.Miss("a body that stands in the file " + value[strings.Index(value, "@")+1:])
		return ""
	case !has:
		return url.QueryEscape(value)
	case n == "":
		return url.QueryEscape(v)
	}
	return n + "=" + url.QueryEscape(v)
}

func (c *command) request() (*byexample.Request, error) {
	r := c.r
	if len(c.urls) == 0 {
		return nil, fmt.Errorf("%w: the command has no address", ErrNothing)
	}
	for _, more := range c.urls[1:] {
		r.Miss("the word " + cut(more) + ", beside the address")
	}
	var err error
	if r.URL, err = address(c.urls[0]); err != nil {
		return nil, err
	}
	body := strings.Join(c.data, "&")
	switch {
	case c.get && len(c.data) > 0:
		r.URL.RawQuery = strings.TrimPrefix(r.URL.RawQuery+"&"+body, "&")
		c.data = nil
	case len(c.data) > 0:
		r.Body = []byte(body)
		kind := "application/x-www-form-urlencoded"
		if c.json {
			kind = "application/json"
		}
		if !r.Headers.Has("Content-Type") {
			r.Add("Content-Type", kind)
		}
	case len(c.multi) > 0:
		multipart(r, c.multi)
	}
	switch {
	case c.method != "":
		r.Method = c.method
	case c.head:
		r.Method = "HEAD"
	case len(r.Body) > 0 || len(c.data) > 0:
		r.Method = "POST"
	default:
		r.Method = "GET"
	}
	return r, nil
}

// multipart writes parts as they are sent; those of files are not known.
func multipart(r *byexample.Request, parts [][2]string) {
	var list declaration.Parts
	for _, p := range parts {
		if strings.HasPrefix(p[1], "@") || strings.HasPrefix(p[1], "<") {
			r.Miss("the part " + p[0] + ", which stands in a file")
			continue
		}
		list = append(list, declaration.Part{Name: p[0], Text: p[1]})
	}
	contentType, body := list.Body()
	r.Body = body
	r.Add("Content-Type", contentType)
}
