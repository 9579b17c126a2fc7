package exchanges

import (
	"fmt"
	"strings"
	"time"

	"millgate/core/field"
	"millgate/core/origin"
)

// The edges of the rules, where browsers and the standard's text are known to part.

// open are the fields of an answer that permits everything that can be permitted without cookies.
var open = []string{acao, "*", acam, "*", acah,
	"*, authorization, x-a, range, accept, accept-language, content-language, " +
		"content-type, dpr, save-data, user-agent", acma, "60"}

// closed permits a page, and no field of its own.
var closed = []string{acao, "*", acam, "PUT"}

// both asks for fields, once of a service that allows them and once of one that does not.
func (g *gen) both(name string, q origin.Request) {
	g.add(name+", allowed", q, Hop{Preflight: ans(204, open...), Answer: ans(200, acao, "*")})
	g.add(name+", not allowed", q, Hop{Preflight: ans(204, closed...), Answer: ans(200, acao, "*")})
}

func (g *gen) repeated() {
	for _, name := range []string{"Accept", "Accept-Language", "Content-Language", "Content-Type", "Range", "X-A",
		"DPR",
		"Save-Data", "Authorization", "X-HTTP-Method-Override", "If-None-Match"} {
		for _, v := range [][]string{{"a", "b"}, {strings.Repeat("a", 100), strings.Repeat("b", 100)},
			{strings.Repeat("a", 63), strings.Repeat("b", 63)}, {strings.Repeat("a", 64), strings.Repeat("b", 63)},
			{"text/plain", "text/plain"}, {"bytes=0-1", "bytes=0-1"}, {"on", "on"}, {"1", "1"}, {"PUT", "TRACE"}} {
			h := field.List{{name, v[0]}, {strings.ToLower(name), v[1]}}
			g.both(fmt.Sprintf("%s twice %.8q", name, v), origin.Request{Headers: h})
		}
		g.add(name+" twice without CORS", origin.Request{Mode: origin.NoCORS, Method: "POST",
			Headers: field.List{{name, "text/plain"}, {name, "text/plain"}}}, Hop{Answer: ans(200)})
	}
}

func (g *gen) ranges() {
	for _, v := range []string{"bytes=0-", "bytes=0-0", "bytes=1-0", "bytes=00-00", "bytes=0-9223372036854775806",
		"bytes=0-9223372036854775807", "bytes=0-9223372036854775808", "bytes=0-18446744073709551615",
		"bytes=0-18446744073709551616", "bytes=9223372036854775807-", "bytes=9223372036854775808-",
		"bytes=18446744073709551616-", "bytes=18446744073709551616-18446744073709551617",
		"bytes=00000000000000000000000000001-2", "bytes=2-00000000000000000000000000003", "bytes=4294967296-4294967297",
		"bytes=2147483648-", "bytes=-", "bytes=-0", "bytes=--1", "bytes=1", "bytes=", "bytes", "", "=0-1", "Bytes=0-1",
		"BYTES=0-1", "bytes =0-1", "bytes\t=0-1", "bytes=\t0-1", "bytes=0 -1", "bytes=0- 1", "bytes=0-1 ", " bytes=0-1",
		"bytes=0-1,", "bytes=0-1,2-3", "bytes=+0-1", "bytes=0-+1", "bytes=0x0-1", "bytes=0.0-1", "bytes=0-1;q=1",
		"bytes=０-１", "bytes==0-1", "byte=0-1", "none"} {
		g.both(fmt.Sprintf("range %q", v), origin.Request{Headers: field.List{{"Range", v}}})
	}
}

var cacheModes = []origin.CacheMode{"", "no-store", "reload", "no-cache", "force-cache", "only-if-cached"}

func (g *gen) cacheModes() {
	for _, c := range cacheModes {
		for _, m := range []origin.Mode{origin.CORS, origin.NoCORS, origin.SameOriginOnly} {
			for _, q := range []origin.Request{{}, {Method: "POST", Body: true}, {Method: "PUT"},
				{Headers: field.List{{"X-A", "1"}}}, {Headers: field.List{{"If-None-Match", "\"a\""}}}} {
				q.Cache, q.Mode = c, m
				name := fmt.Sprintf("cache %s mode %s %s %q", c, m, q.Method, q.Headers)
				hop := Hop{Preflight: ans(204, open...), Answer: ans(200, acao, "*")}
				g.several(name, []origin.Request{q, q}, hop)
				if q.Headers == nil {
					q.URL = "{home}/x/{id}/0"
					g.several(name+" at home", []origin.Request{q, q}, hop)
				}
			}
		}
	}
	for _, name := range []string{"If-None-Match", "If-Modified-Since", "If-Match", "If-Unmodified-Since", "If-Range",
		"Range",
		"Cache-Control", "Pragma"} {
		q := origin.Request{Headers: field.List{{name, "a"}}}
		plain := origin.Request{Headers: field.List{{"X-A", "1"}}}
		star := Hop{Preflight: ans(204, acao, "*", acah, "*", acma, "60"), Answer: ans(200, acao, "*")}
		g.several(name+" twice", []origin.Request{q, q}, star)
		g.several(name+", then none", []origin.Request{q, plain}, star)
	}
	for _, c := range cacheModes {
		g.several(fmt.Sprintf("asked with %q between two", c), []origin.Request{{Method: "PUT"}, {Method: "PUT",
			Cache: c},
			{Method: "PUT"}}, Hop{Preflight: ans(204, open...), Answer: ans(200, acao, "*")})
	}
	// An earlier preflight, and then another mode.
	for _, c := range cacheModes {
		for _, first := range cacheModes[:5] {
			g.several(fmt.Sprintf("asked with %q, then with %q", first, c), []origin.Request{{Method: "PUT",
				Cache: first},
				{Method: "PUT", Cache: c}}, Hop{Preflight: ans(204, open...), Answer: ans(200, acao, "*")})
		}
	}
}

func (g *gen) maxAges() {
	q := origin.Request{Method: "PUT", Headers: field.List{{"X-A", "1"}}}
	for _, a := range [][]string{{}, {"600"}, {"0"}, {"00"}, {"0600"}, {"-0"}, {"-1"}, {"-600"}, {"- 600"}, {"x"},
		{"600x"},
		{"x600"}, {"600", "0"}, {"0", "600"}, {"600", "600"}, {"600, 0"}, {"0, 600"}, {"600,"}, {",600"}, {" 600 "},
		{"\t600"}, {"1.5"}, {"0.5"}, {".5"}, {"+60"}, {"+0"}, {"6e2"}, {"0x10"}, {"99999999999"}, {"2147483647"},
		{"2147483648"}, {"4294967295"}, {"4294967296"}, {"9223372036854775807"}, {"9223372036854775808"},
		{"18446744073709551616"}, {"-99999999999999999999"}, {""}, {" "}, {"600;"}, {"600; x"}, {"\"600\""}, {"6 00"},
		{"６００"}, {"max-age=600"}, {"600s"}, {"10m"}, {"null"}, {"true"}} {
		h := []string{acao, "*", acam, "PUT", acah, "x-a"}
		for _, v := range a {
			h = append(h, acma, v)
		}
		g.several(fmt.Sprintf("max age %q", a), []origin.Request{q, q},
			Hop{Preflight: ans(204, h...), Answer: ans(200, acao, "*")})
	}
	for _, v := range []string{"", "1", "3", "600", "x", "600, 600", "-1", "00600", "+600", "99999999999",
		"9223372036854775807", "9223372036854775808", "18446744073709551616"} {
		g.several(fmt.Sprintf("max age %q, after more than five seconds", v), []origin.Request{q, q},
			Hop{Preflight: ans(204, acao, "*", acam, "PUT", acah, "x-a", acma, v), Answer: ans(200, acao, "*")}).Pause =
			6 * time.Second
	}
}

func (g *gen) remembered() {
	allow := func(methods, headers string) Hop {
		return Hop{Preflight: ans(204, acao, "{page}", acac, "true", acam, methods, acah, headers, acma, "60"),
			Answer: ans(200, acao, "{page}", acac, "true")}
	}
	auth, xa := field.List{{"Authorization", "x"}}, field.List{{"X-A", "1"}}
	for _, hop := range []struct{ methods, headers string }{{"*", "*"}, {"*", "*, authorization"}, {"PUT", "x-a"},
		{"PUT, *", "authorization, x-a"}, {"put", "X-A"}, {"PUT, PATCH", "*"}} {
		for _, first := range []origin.Request{{Method: "PUT"}, {Headers: xa}, {Method: "PUT", Headers: auth},
			{Headers: auth}} {
			for _, then := range []origin.Request{{Method: "PUT"}, {Headers: xa}, {Headers: auth}, {Method: "PATCH"},
				{Method: "PUT", Credentials: origin.Include}, {Headers: xa, Credentials: origin.Include}} {
				g.several(fmt.Sprintf("%s %s: %s %q, then %s %q %s", hop.methods, hop.headers, first.Method,
					first.Headers,
					then.Method, then.Headers, then.Credentials), []origin.Request{first, then}, allow(hop.methods,
					hop.headers))
			}
		}
		first := origin.Request{Method: "PUT", Headers: xa, Credentials: origin.Include}
		for _, then := range []origin.Credentials{origin.Omit, origin.SameOrigin, origin.Include} {
			second := first
			second.Credentials = then
			g.several(fmt.Sprintf("%s %s: with cookies, then %s", hop.methods, hop.headers, then),
				[]origin.Request{first, second}, allow(hop.methods, hop.headers))
		}
	}
	// A * beside the name that the first request needs, with cookies.
	first := origin.Request{Method: "PUT", Headers: xa, Credentials: origin.Include}
	for _, hop := range []Hop{allow("PUT, *", "x-a, *"), allow("*, PUT", "x-a"), allow("PUT", "*, x-a")} {
		for _, then := range []origin.Request{{Method: "PATCH"}, {Headers: field.List{{"X-B", "1"}}}, {Headers: auth}} {
			for _, c := range modes {
				then.Credentials = c
				g.several(fmt.Sprintf("%q with cookies, then %s %q %s", hop.Preflight.Headers[2:4], then.Method,
					then.Headers, c),
					[]origin.Request{first, then}, hop)
			}
		}
	}
	// Two preflights of one address, and then what the first allowed.
	put, other := origin.Request{Method: "PUT"}, origin.Request{Headers: xa}
	for _, later := range []origin.Answer{ans(204, acao, "*", acah, "x-a", acma, "60"), ans(204, acao, "*", acah,
		"x-a", acma,
		"0"), ans(204, acao, "*", acah, "x-a", acam, "PUT", acma, "0"), ans(204, acao, "*"), ans(500)} {
		g.several(fmt.Sprintf("a second preflight %d %q, then the first again", later.Status, later.Headers),
			[]origin.Request{put, other, put, other}, Hop{Preflight: ans(204, acao, "*", acam, "PUT", acma, "60"),
				Later: &later, Answer: ans(200, acao, "*")})
	}
	// A simple request that fails after one that was asked for.
	g.several("a plain request that may not be read, between", []origin.Request{put, {URL: "{service}/x/{id}/0",
		Credentials: origin.Include}, put}, Hop{Preflight: ans(204, open...), Answer: ans(200, acao, "*")})
	// What a request that fails does to what is remembered.
	for _, a := range []origin.Answer{ans(200), ans(200, acao, "null"), ans(500), ans(401), ans(200, acao, "*", acao,
		"*")} {
		g.several(fmt.Sprintf("forgotten after %d %q", a.Status, a.Headers), []origin.Request{put, put},
			Hop{Preflight: ans(204, open...), Answer: a})
	}
}

func (g *gen) clientHints() {
	for _, name := range []string{"DPR", "Device-Memory", "Downlink", "ECT", "RTT", "Save-Data", "Viewport-Width",
		"Width"} {
		for _, v := range []string{"1", "0", "1.0", "1.5", "-1", "+1", "1.", ".5", "1e3", "inf", "NaN", "on", "On",
			"off", "4g",
			"4G", "slow-2g", "5g", "", " 1 ", "1, 1", "0x1", "1.0.0", "...", "9223372036854775808"} {
			g.add(fmt.Sprintf("%s: %q", name, v), origin.Request{Headers: field.List{{name, v}}},
				Hop{Preflight: ans(204, closed...), Answer: ans(200, acao, "*")})
		}
	}
}

func (g *gen) fieldNames() {
	for _, name := range []string{"User-Agent", "user-agent", "Available-Dictionary", "Dictionary-ID",
		"Use-As-Dictionary",
		"Sec-Available-Dictionary", "Accept-Charset", "Accept-Encoding", "Access-Control-Request-Headers",
		"Access-Control-Request-Method", "Access-Control-Request-Private-Network",
		"Access-Control-Request-Local-Network", "Connection", "Content-Length", "Cookie", "Cookie2", "Date", "DNT",
		"Expect", "Host", "Keep-Alive", "Origin", "Referer", "Set-Cookie", "Set-Cookie2", "TE", "Trailer",
		"Transfer-Encoding", "Upgrade", "Via", "Proxy-", "Proxy-Authorization", "Proxy", "Sec-", "Sec-Fetch-Site",
		"Sec",
		"Sec-CH-UA", "Sec-GPC", "GPC", "Priority", "Forwarded", "X-Forwarded-For", "Alt-Used", "Early-Data", "Purpose",
		"Access-Control-Allow-Origin", "Accept-CH", "Content-Encoding", "Content-Location", "If-Match", "If-Range",
		"Max-Forwards", "Prefer", "Permissions-Policy", "Service-Worker", "Service-Worker-Navigation-Preload",
		"Want-Digest", "Idempotency-Key", "X-Requested-With", "X-HTTP-Method", "X-Method-Override", "HTTP2-Settings",
		"Attribution-Reporting-Eligible", "Tracestate", "Traceparent", "a b", "", "Ä", "X_A", "X.A"} {
		g.both(fmt.Sprintf("field %q", name), origin.Request{Headers: field.List{{name, "1"}}})
	}
	for _, name := range []string{"X-HTTP-Method", "X-HTTP-Method-Override", "X-Method-Override"} {
		for _, v := range []string{"TRACE", "trace", "CONNECT", " track ", "a,TRACE", "a, \tTRACE", "TRACEX",
			"PUT, PATCH",
			"\"TRACE\"", "a;TRACE", ""} {
			g.both(fmt.Sprintf("%s: %q", name, v), origin.Request{Headers: field.List{{name, v}}})
		}
	}
}

func (g *gen) private() {
	const may, mine = "Access-Control-Allow-Private-Network", "Access-Control-Allow-Local-Network"
	for _, q := range []origin.Request{{}, {Method: "PUT"}, {Method: "POST", Body: true}, {Credentials: origin.Include},
		{Mode: origin.NoCORS}, {Headers: field.List{{"X-A", "1"}}}, {URL: "{home}/x/{id}/0"},
		{URL: "http://localhost:{port}/x/{id}/0"}} {
		for _, h := range [][]string{{}, {may, "true"}, {may, "True"}, {mine, "true"}, {may, "true", mine, "true"}} {
			g.add(fmt.Sprintf("private %s %s %s %q to %.17s with %q", q.Method, q.Credentials, q.Mode, q.Headers,
				q.URL, h), q,
				Hop{Preflight: ans(204, append([]string{acao, "{page}", acac, "true", acam, "*, PUT", acah, "x-a"},
					h...)...),
					Answer: ans(200, append([]string{acao, "{page}", acac, "true"}, h...)...)}).Public = true
		}
	}
}

// places are values of Location, at {service}/x/{id}/0.
var places = []string{"", " ", "\t", "#", "#f", "?", "?q", "?q#f", ".", "./1", "../{id}/1", "1", " 1 ", "/x/{id}/1",
	"//{bare}/x/{id}/1", "\\x\\{id}\\1", "/x/{id}/%31", "{service}/x/{id}/1", "{service}/x/{id}/1#f",
	"{service}/x/{id}/1?q",
	"{other}/x/{id}/1", "{other}\\x\\{id}\\1", "{home}/x/{id}/1", "HTTP://127.0.0.1:{port}/x/{id}/1",
	"http:/x/{id}/1", "http:1", "http:///127.0.0.1:{port}/x/{id}/1", "http://0x7f.1:{port}/x/{id}/1",
	"http://LOCALHOST:{port}/x/{id}/1", "http://127.0.0.1:99999/", "http://127.0.0.256/", "http://a b/", "http://",
	"http:",
	"data:text/plain,x", "javascript:1", "file:///etc/hosts", "about:blank", "blob:x", "ws://127.0.0.1:{port}/x/{id}/1",
	"ftp://127.0.0.1/", "mailto:a@b", "x:y", ":", "/x/{id}/1\xc3\xa4", "/x/{id}/1 x", "1\xe4", "/x/{id}/1\t", "1;x",
	"1,2"}

func (g *gen) locations() {
	bare := strings.TrimPrefix(g.at.Service, "http://")
	then := Hop{Preflight: ans(204, open...), Answer: ans(200, acao, "*")}
	for _, p := range places {
		p = strings.ReplaceAll(p, "{bare}", bare)
		for _, q := range []origin.Request{{}, {Mode: origin.NoCORS}} {
			g.add(fmt.Sprintf("location %q %s", strings.ReplaceAll(p, bare, "{bare}"), q.Mode), q,
				Hop{Preflight: ans(204, open...), Answer: ans(302, "Location", p, acao, "*")}, then)
		}
	}
	for _, l := range [][]string{{"1", "1"}, {"1", "2"}, {"", "1"}, {"1", ""}} {
		g.add(fmt.Sprintf("locations %q", l), origin.Request{}, Hop{Answer: ans(302, "Location", l[0], "Location", l[1],
			acao, "*")}, then, then)
	}
	for _, s := range []int{300, 304, 305, 306, 309, 399} {
		g.add(fmt.Sprintf("location of %d", s), origin.Request{}, Hop{Answer: ans(s, "Location", "1", acao, "*")}, then)
	}
	for _, mode := range []origin.Redirect{origin.RefuseAll, origin.ManualFollow} {
		for _, p := range []string{"", " ", "1", "http://a b/", "data:,x"} {
			g.add(fmt.Sprintf("redirect mode %s to %q", mode, p), origin.Request{Redirect: mode},
				Hop{Answer: ans(302, "Location", p, acao, "*")}, then)
		}
	}
	g.add("twenty redirects", origin.Request{}, append(hops(20, acao, "*"), then)...)
	g.add("twenty-one redirects", origin.Request{}, append(hops(21, acao, "*"), then)...)
}

// hops are answers that each lead to the next.
func hops(n int, kv ...string) (out []Hop) {
	for i := range n {
		out = append(out, Hop{Answer: ans(302, append([]string{"Location", fmt.Sprint(i + 1)}, kv...)...)})
	}
	return out
}

func (g *gen) userinfo() {
	for _, who := range []string{"u:p@", "u@", ":p@", ":@", "@", "%75@"} {
		for _, to := range []string{g.at.Service, g.at.Other, g.at.Page} {
			for _, q := range []origin.Request{{}, {Mode: origin.NoCORS}, {Credentials: origin.Include},
				{URL: "{home}/x/{id}/0"}} {
				g.add(fmt.Sprintf("to %s%s, %s %s from %.6s", who, g.at.Names(to), q.Mode, q.Credentials, q.URL), q,
					Hop{Answer: ans(302, "Location", "http://"+who+strings.TrimPrefix(to, "http://")+"/x/{id}/1",
						acao, "{page}", acac, "true")}, Hop{Answer: ans(200, acao, "{page}", acac, "true")})
			}
		}
		g.add("asked with "+who, origin.Request{URL: "http://" + who + "127.0.0.1:{port}/x/{id}/0"},
			Hop{Answer: ans(200, acao, "*")})
	}
}

func (g *gen) nullAndFragments() {
	hop := Hop{Preflight: ans(204, open...), Answer: ans(200, acao, "*")}
	for _, page := range []string{"", origin.Null} {
		for _, first := range []string{"", "#a", "?q", "?q#a", "#"} {
			for _, then := range []string{"", "#a", "#b", "?q", "?q#b", "?", "#"} {
				for _, m := range []string{"PUT"} {
					g.several(fmt.Sprintf("page %q: %q, then %q", page, first, then), []origin.Request{
						{Page: page, Method: m, URL: first}, {Page: page, Method: m, URL: then}}, hop)
				}
			}
		}
		// What a redirect left is remembered for null, or not.
		put := origin.Request{Page: page, Method: "PUT"}
		g.several(fmt.Sprintf("page %q: through another origin, twice", page), []origin.Request{put, put},
			Hop{Preflight: ans(204, open...), Answer: ans(307, "Location", "{other}/x/{id}/1#f", acao, "*")},
			Hop{Preflight: ans(204, open...), Answer: ans(307, "Location", "{service}/x/{id}/2", acao, "*")}, hop)
		second := put
		second.URL = "{other}/x/{id}/1"
		g.several(fmt.Sprintf("page %q: led there, then straight", page), []origin.Request{put, second},
			Hop{Preflight: ans(204, open...), Answer: ans(307, "Location", "{other}/x/{id}/1#f", acao, "*")}, hop)
	}
}

func (g *gen) latin1() {
	for _, name := range []string{"Accept", "Accept-Language", "Content-Language", "Content-Type", "X-A"} {
		for _, v := range []string{"ä", "a ÿ", "\u00a0", "\u00a0a\u00a0", "Ā", "€", "\U0001F52D", "\u0080", "\u007f",
			"a\u0000b",
			"a\nb", "\na\n", "a\rb", "\u000b", "\u001f", "text/plain;charset=ä", "text/plain;x=\u0001", "\t",
			strings.Repeat("ä", 64),
			strings.Repeat("ä", 128), strings.Repeat("ä", 129)} {
			g.add(fmt.Sprintf("%s: %.20q (%d)", name, v, len(v)), origin.Request{Headers: field.List{{name, v}}},
				Hop{Preflight: ans(204, closed...), Answer: ans(200, acao, "*")})
		}
	}
	for _, h := range []string{acao, acam, acah, aceh, acac} {
		for _, v := range []string{"\xe4", "*\xe4", "\xc3\xa4", "*\xa0", "\xa0*", "*\x0b", "\x0c*"} {
			q := origin.Request{Method: "PUT", Headers: field.List{{"X-A", "1"}}}
			if h == acac {
				q.Credentials = origin.Include
			}
			base := map[string]string{acao: "{page}", acam: "PUT", acah: "x-a", aceh: "x-one", acac: "true"}
			base[h] = v
			var kv []string
			for _, n := range []string{acao, acac, acam, acah, aceh} {
				kv = append(kv, n, base[n])
			}
			g.add(fmt.Sprintf("answered %s: %q", h, v), q, Hop{Preflight: ans(204, kv...),
				Answer: ans(200, append(kv, "X-One", "1")...)})
		}
	}
}

// hostForms are ways to write this machine, and some that are no host.
var hostForms = []string{"127.0.0.1", "127.1", "127.0.1", "0x7f.1", "0x7F.0x0.0x0.0x1", "0x7f000001", "2130706433",
	"017700000001", "0177.0.0.1", "0177.1", "127.0.0.01", "127.00.0.1", "127.0.0.0x1", "127.0.0.1.", "127.1.",
	"１２７.0.0.1", "127。0。0。1", "127.0.0.1。", "%31%32%37.0.0.1", "127%2e0%2E0.1", "127.0.0.\u00ad1", "127.0\t.0.1",
	"localhost", "LOCALHOST", "LocalHost", "localhost.", "a.localhost", "A.Localhost", "ä.localhost", "Ä.localhost",
	"XN--4CA.localhost", "xn--4ca.localhost", "ß.localhost", "a\u0308.localhost", "ﬀ.localhost", "a_b.localhost",
	"-a.localhost", "a--b.localhost", "a%20b.localhost", "a b.localhost", "a^b.localhost", "a|b.localhost",
	"a<b.localhost", "a%.localhost", "a%zz.localhost", "a%25.localhost", "a\u200db.localhost", "xn--.localhost",
	"xn--a.localhost",
	"256.0.0.1", "127.0.0.256", "127.0.0.0.1", "0x.localhost", "a.0x1", "a.1", "1.2.3.4.5", "4294967296", "0x100000000",
	"0x7g.1", "127.0.0.08", "09.0.0.1", "", "[::1", "[127.0.0.1]", "[::g]", "127.0.0.1:", "127.0.0.1:00{port}",
	"127.0.0.1:65536", "127.0.0.1:a", "127.0.0.1: {port}"}

func (g *gen) hosts() {
	for _, h := range hostForms {
		port := ":{port}"
		if strings.Contains(h, ":") && !strings.HasPrefix(h, "[") {
			port = ""
		}
		if strings.HasSuffix(h, ":") { // the default port, where nothing listens
			h += "{port}"
		}
		for _, q := range []origin.Request{{}, {Method: "PUT"}} {
			q.URL = "http://" + h + port + "/x/{id}/0"
			g.add(fmt.Sprintf("host %q %s", h, q.Method), q, Hop{Preflight: ans(204, open...), Answer: ans(200, acao,
				"*")})
			if port != "" && q.Method == "" {
				q.URL = "http://" + h + ":{homeport}/x/{id}/0"
				g.add(fmt.Sprintf("the page's own, as %q", h), q, Hop{Answer: ans(200)})
			}
		}
	}
	for _, u := range []string{"http:\\\\127.0.0.1:{port}\\x\\{id}\\0",
		"HTTP://127.0.0.1:{port}/x/{id}/0", "ht\ntp://127.0.0.1:{port}/x/{id}/0",
		"  http://127.0.0.1:{port}/x/{id}/0  ",
		"http:////127.0.0.1:{port}/x/{id}/0", "http://127.0.0.1:{port}/y/../x/{id}/0",
		"http://127.0.0.1:{port}/y/%2e%2e/x/{id}/0",
		"http://127.0.0.1:{port}/x/{id}/./0", "ftp://127.0.0.1/", "javascript:1", "about:blank", "about:x",
		"file:///etc/hosts", "mailto:a@b", "ws://127.0.0.1:{port}/x/{id}/0", "//127.0.0.1:{port}/x/{id}/0",
		"/x/{id}/0", "x:"} {
		g.add(fmt.Sprintf("address %q", u), origin.Request{URL: u}, Hop{Answer: ans(200, acao, "*")})
	}
}

func (g *gen) sizes() {
	names := []string{"Accept", "Accept-Language", "Content-Language", "Content-Type"}
	for _, size := range []int{1, 100, 127, 128, 129, 255, 256, 257} {
		for n := range names {
			var h field.List
			for _, name := range names[:n+1] {
				v := strings.Repeat("a", size)
				if name == "Content-Type" {
					v = "text/plain;" + strings.Repeat("a", max(size-11, 0))
				}
				h = append(h, [2]string{name, v})
			}
			g.add(fmt.Sprintf("%d fields of %d", n+1, size), origin.Request{Headers: h},
				Hop{Preflight: ans(204, closed...), Answer: ans(200, acao, "*")})
		}
	}
	// Nine of them together are more than 1024 bytes.
	for _, hint := range [][]string{{"DPR", "1"}, {"DPR", strings.Repeat("1", 127)}, {"DPR", strings.Repeat("1",
		128)}} {
		for _, size := range []int{119, 120, 127, 128} {
			var h field.List
			for _, name := range names[:3] {
				h = append(h, [2]string{name, strings.Repeat("a", size)})
			}
			for _, name := range []string{"Downlink", "RTT", "Device-Memory", "Viewport-Width", "Width"} {
				h = append(h, [2]string{name, strings.Repeat("1", size)})
			}
			h = append(h, [2]string{hint[0], hint[1]})
			g.add(fmt.Sprintf("nine fields of %d with %s of %d", size, hint[0], len(hint[1])),
				origin.Request{Headers: h},
				Hop{Preflight: ans(204, closed...), Answer: ans(200, acao, "*")})
		}
	}
}
