package byexample

import (
	"slices"
	"strings"
	"time"

	"millgate/core/declaration"
	"millgate/core/personal"
	"millgate/core/token"
)

// lives are names of members that say in how many seconds a token ends (RFC 6749 section 5.1 has expires_in).
var lives = []string{"expiresin", "expires", "ttl", "lifetime", "maxage", "validfor"}

// life is how long what a login gives lives, as its answer or its token says; 0 where neither does.
func (l *login) life() (time.Duration, string) {
	at := l.access()
	if at == "" {
		return 0, ""
	}
	text, _ := at.Text(l.answer)
	t := token.Decode(text)
	begins, begun := t.Date("iat")
	if ends, ok := t.Date("exp"); ok && begun && ends.After(begins) {
		return ends.Sub(begins), "its token says so"
	}
	beside, _ := at[:strings.LastIndexByte(string(at), '/')].In(l.answer)
	members, _ := beside.(map[string]any)
	for name, v := range members {
		n, ok := v.(float64)
		if ok && n >= 1 && n < 1e8 && slices.Contains(lives, strings.Join(personal.Words(name), "")) {
			return time.Duration(n) * time.Second, "the answer of the login says so, as " + name
		}
	}
	return 0, ""
}

// lifetime proposes how long what a scheme's login gives may live: as long as it does.
func (r *reader) lifetime(f *found) {
	if f.login == nil || f.is != nil && f.is.Lifetime["access"].Name != "" {
		return
	}
	d, why := f.login.login.life()
	if d <= 0 {
		return
	}
	name := f.name
	for slices.ContainsFunc(r.d.Lifetimes, func(x *declaration.Lifetime) bool { return x.Name == name }) {
		name += "-life"
	}
	r.propose(Proposal{Kind: Lifetime, Name: name, Scheme: f.name,
		Text: "{ max: " + declaration.ShortDuration(d) + " }",
		Why:  why + "; that it may live no longer is for you to say"})
}
