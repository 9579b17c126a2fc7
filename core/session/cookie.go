package session

import (
	"fmt"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/token"
)

// Judged is one thing that is said about a credential or a session.
type Judged struct {
	ID       string           `json:"id"`
	Severity finding.Severity `json:"severity"`
	Text     string           `json:"text"`
	Why      string           `json:"why"`
	Standard string           `json:"standard"`
	// Rests names the steps of a drill that it rests on.
	Rests []string `json:"-"`
}

func issued(id, text, why, standard string) Judged {
	j := Judged{ID: id, Severity: finding.Low, Text: text, Why: why, Standard: standard}
	if row := finding.RowOf(IssuedCauses, "token "+id); row != nil {
		j.Severity = row.Severity
	}
	return j
}

// Cookie is how a session cookie was set. SameSite is strict, lax, none, or ""
// when it was not said; Life is 0 when it lasts as long as the browser.
type Cookie struct {
	Path             string
	HTTPOnly, Secure bool
	SameSite         string
	Life             time.Duration
}

// strictness orders SameSite; what is not said is lax in most browsers only.
var strictness = map[string]int{"none": 0, "": 0, "lax": 1, "strict": 2}

// JudgeCookie holds a cookie against its scheme and lifetime.
func JudgeCookie(c Cookie, s *declaration.Scheme, l *declaration.Lifetime) (out []Judged) {
	want := s.Cookie
	if want.HTTPOnly && !c.HTTPOnly {
		out = append(out, issued("cookie-script", "it is set without HttpOnly",
			"Any script on the page can read it, an injected one too.", "RFC 6265 section 4.1.2.6"))
	}
	if want.Secure && !c.Secure {
		out = append(out, issued("cookie-insecure", "it is set without Secure",
			"A request over plain http carries it for everyone on the way to read.", "RFC 6265 section 4.1.2.5"))
	}
	if strictness[c.SameSite] < strictness[want.SameSite] {
		said := "without SameSite"
		if c.SameSite != "" {
			said = "with SameSite=" + c.SameSite
		}
		out = append(out, issued("cookie-same-site", fmt.Sprintf("it is set %s, %s is declared", said, want.SameSite),
			"Pages of other sites can make the browser send it.", "RFC 6265bis section 5.6.7"))
	}
	if want.Path != "" && c.Path != "" && !strings.HasPrefix(strings.TrimRight(c.Path, "/")+"/",
		strings.TrimRight(want.Path, "/")+"/") {
		out = append(out, issued("cookie-path", fmt.Sprintf("it is set for the path %s, %s is declared", c.Path,
			want.Path), "More of the site gets it than needs it.", "RFC 6265 section 4.1.2.4"))
	}
	if l != nil && l.Max > 0 && c.Life > l.Max+l.Skew {
		out = append(out, issued("cookie-too-long", fmt.Sprintf("it lives for %s, at most %s is declared",
			token.Say(c.Life), token.Say(l.Max)), "A lost device stays signed in for longer.",
			"RFC 6265 section 4.1.2.2"))
	}
	return out
}

// JudgeLink holds the end of a link that was just given out against its
// lifetime. said is the parameter as it stands in the link.
func JudgeLink(end time.Time, said string, now time.Time, l *declaration.Lifetime) []Judged {
	if end.IsZero() {
		what := "its end is missing"
		if said != "" {
			what = fmt.Sprintf("its end %q is neither Unix seconds nor a date (RFC 3339)", said)
		}
		return []Judged{issued("link-endless", what, "Nobody can tell until when it opens.", "RFC 3339 section 5.6")}
	}
	if life := end.Sub(now).Round(time.Second); l != nil && l.Max > 0 && life > l.Max+l.Skew+time.Second {
		return []Judged{issued("link-too-long", fmt.Sprintf("it lives for %s, at most %s is declared", token.Say(life),
			token.Say(l.Max)), "Whoever finds it in a history or a mail can still open it.", "OWASP API2:2023")}
	}
	return nil
}

// JudgeLinkPath holds where a link leads against the path that it was asked for, in which a
// {parameter} is what the link alone says; a link without a path says nothing of it. Before the
// path there may be that of the service.
func JudgeLinkPath(leads, asked string) []Judged {
	if leads == "" || leads == "/" || endsLike(leads, asked) {
		return nil
	}
	return []Judged{issued("link-elsewhere", fmt.Sprintf("it leads to %s, asked for was %s", leads, asked),
		"Who asks for one record is given another.", "OWASP API1:2023")}
}

// endsLike says whether a path ends in the segments of another, of which a {parameter} is any.
func endsLike(path, end string) bool {
	have, want := strings.Split(strings.Trim(path, "/"), "/"), strings.Split(strings.Trim(end, "/"), "/")
	if len(have) < len(want) {
		return false
	}
	for i, w := range want {
		if h := have[len(have)-len(want)+i]; h != w && !strings.HasPrefix(w, "{") {
			return false
		}
	}
	return true
}
