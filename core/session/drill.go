package session

import (
	"fmt"
	"time"

	"millgate/core/declaration"
	"millgate/core/finding"
	"millgate/core/token"
)

// Steps of a drill, in the order in which they are sent. The first session is
// logged out; the second finds out about refresh tokens that are used twice.
const (
	LogInBeside        = "log in, another session"
	LogIn              = "log in"
	Use                = "use"
	AskIssuer          = "ask the issuer"
	Refresh            = "refresh"
	UseRenewed         = "use the renewed"
	LogOutNobody       = "log out naming no session"
	UseBeside          = "use the other session"
	UseBesideAfter     = "use the other session after the logout"
	LogOut             = "log out"
	UseAfterLogout     = "use after the logout"
	UseOnNodes         = "use after the logout, over a connection of its own"
	AskIssuerAfter     = "ask the issuer after the logout"
	RefreshAfterLogout = "refresh after the logout"
	LogOutAgain        = "log out again"
	LogInAgain         = "log in again"
	RefreshAgain       = "refresh again"
	OldRefresh         = "the old refresh token again"
	RefreshAfterReuse  = "refresh after the reuse"
	LogOutOther        = "log out with a neighbour's refresh token"
	NeighbourRefresh   = "the neighbour refreshes"
)

// Step is one request of a drill. Worked says that it was admitted, and for a
// login or a renewal that it gave a credential.
type Step struct {
	Name   string        `json:"name"`
	At     time.Duration `json:"at"` // since the first login
	Status int           `json:"status"`
	Worked bool          `json:"worked"`
	Note   string        `json:"note,omitempty"`
}

// Drilled is what a drill of one session measured.
type Drilled struct {
	Steps   []Step `json:"steps"`
	Rotated bool   `json:"rotated"` // the renewal gave another refresh token
	// the access credential was last seen to work that long after the logout
	After    time.Duration `json:"after"`
	Outlived bool          `json:"outlived"`       // it still worked when the wait was over
	Waited   time.Duration `json:"waited"`         // after the logout
	Life     time.Duration `json:"life"`           // of the access credential by its own end; 0 when it says none
	Said     time.Duration `json:"said"`           // of it by expires_in (RFC 6749 section 5.1); 0 when it is not said
	Idle     time.Duration `json:"idle,omitempty"` // of the refresh token by refresh_expires_in; 0 when it is not said
}

// Step returns a step, ok false when it was not sent.
func (d *Drilled) Step(name string) (Step, bool) {
	for _, s := range d.Steps {
		if s.Name == name {
			return s, true
		}
	}
	return Step{}, false
}

func (d *Drilled) worked(name string) bool {
	s, ok := d.Step(name)
	return ok && s.Worked
}

// refused says that a step was sent and turned away by what it is about: a
// failing service or a throttled request says nothing.
func (d *Drilled) refused(name string) bool {
	s, ok := d.Step(name)
	return ok && !s.Worked && s.Status >= 300 && s.Status < 500 && s.Status != 429
}

// Expect says what the declaration wants of a step: works, refused, or ""
// where it says nothing.
func (d *Drilled) Expect(name string, doc *declaration.Document, s *declaration.Scheme) string {
	const works, refused = "works", "refused"
	a, r := doc.LifetimeNamed(s.Lifetime["access"].Name), doc.LifetimeNamed(s.Lifetime["refresh"].Name)
	reuse := ""
	if r != nil {
		if reuse = r.Reuse; reuse == "" && r.Rotates {
			reuse = refused
		}
	}
	switch name {
	case UseAfterLogout, UseOnNodes, AskIssuerAfter:
		if a == nil || a.EndedWithin < slack {
			return refused
		}
	case RefreshAfterLogout, LogOutNobody:
		return refused
	case LogOutAgain, LogOutOther, UseBeside:
	case UseBesideAfter:
		if !s.EndsAll && d.worked(UseBeside) {
			return works
		}
	case OldRefresh:
		if reuse == refused || reuse == "ends-grant" {
			return refused
		}
	case RefreshAfterReuse:
		switch {
		case reuse == "ends-grant":
			return refused
		case reuse == refused && d.refused(OldRefresh):
			return works
		}
	default:
		return works
	}
	return ""
}

// slack is what a measurement may be off: requests take their time.
const slack = time.Second

// Afterlife is the judgement that a session works on after its end.
const Afterlife = "afterlife"

// JudgeDrill holds what was measured against the lifetimes of the scheme.
func JudgeDrill(d *Drilled, doc *declaration.Document, s *declaration.Scheme) (out []Judged) {
	a, r := doc.LifetimeNamed(s.Lifetime["access"].Name), doc.LifetimeNamed(s.Lifetime["refresh"].Name)
	if a == nil {
		a = &declaration.Lifetime{}
	}
	if r == nil {
		r = &declaration.Lifetime{}
	}
	say := func(id, text, why, standard string, rests ...string) {
		j := Judged{ID: id, Severity: finding.Low, Text: text, Why: why, Standard: standard, Rests: rests}
		if row := DrillRow(id); row != nil {
			j.Severity = row.Severity
		}
		out = append(out, j)
	}
	d.judgeRefresh(r, say)
	d.judgeLogout(a, s, say)
	if a.Max > 0 && d.Life == 0 && d.Said > a.Max+a.Skew {
		say("too-long", fmt.Sprintf("it says that it lives for %s, at most %s is declared", short(d.Said),
			short(a.Max)), "Whoever gets hold of it has longer to use it.", "RFC 6749 section 5.1", LogIn)
	}
	if r.Idle > 0 && d.Idle > r.Idle+slack {
		say("idle-too-long", fmt.Sprintf("the refresh token says that it may be unused for %s, at most %s is declared",
			short(d.Idle), short(r.Idle)), "A forgotten session stays open for longer.", "RFC 9700 section 4.14", LogIn)
	}
	if d.Life > 0 && d.Said > 0 && (d.Life-d.Said).Abs() > 5*slack {
		say("life-said-otherwise", fmt.Sprintf("expires_in says %s, the token itself ends after %s", short(d.Said),
			short(d.Life)), "Clients renew at the wrong time.", "RFC 6749 section 5.1", LogIn)
	}
	if s, ok := d.Step(AskIssuer); ok && !s.Worked && s.Status < 300 {
		say("introspection-inactive", "the issuer calls a token that works not active",
			"Services that ask it refuse callers who must be admitted.", "RFC 7662 section 2.2",
			AskIssuer, Use)
	}
	return out
}

func short(d time.Duration) string { return token.Say(d) }

// within says how soon a logout must have ended a credential.
func within(d time.Duration) string {
	if d < slack {
		return "refused at once is declared"
	}
	return "refused within " + short(d) + " is declared"
}

func (d *Drilled) judgeRefresh(r *declaration.Lifetime, say func(id, text, why, standard string, rests ...string)) {
	if !d.worked(Refresh) && !d.worked(RefreshAgain) {
		return
	}
	switch {
	case r.Rotates && !d.Rotated:
		say("no-rotation", "renewing gives the same refresh token again, and rotates: true is declared", stolen, grant,
			Refresh, RefreshAgain)
		return // using it twice is then its ordinary use
	case d.worked(OldRefresh) && (r.Reuse == "refused" || r.Reuse == "ends-grant" || r.Reuse == "" && r.Rotates):
		say("reuse-works", "a refresh token that was used gives new tokens again", stolen, grant, RefreshAgain,
			OldRefresh)
	case r.Reuse == "ends-grant" && d.refused(OldRefresh) && d.worked(RefreshAfterReuse):
		say("family-lives", "using a refresh token twice is refused, and the session goes on; reuse: ends-grant is "+
			"declared", "Whoever stole the token first keeps the session, the owner is turned away.", grant,
			OldRefresh, RefreshAfterReuse)
	}
}

func (d *Drilled) judgeLogout(a *declaration.Lifetime, s *declaration.Scheme,
	say func(id, text, why, standard string, rests ...string)) {
	if s.Logout == nil {
		return
	}
	if d.worked(LogOut) {
		if d.After > a.EndedWithin+slack {
			text := fmt.Sprintf("the access credential was refused %s after the logout, %s", short(d.After),
				within(a.EndedWithin))
			if d.Outlived {
				text = fmt.Sprintf("the access credential still worked %s after the logout, when the drill stopped "+
					"waiting; %s", short(d.Waited), within(a.EndedWithin))
				if d.Life > 0 {
					text += fmt.Sprintf(". By its own end it works for %s", short(d.Life))
				}
			}
			say(Afterlife, text, "Whoever copied it stays signed in.", revoke, LogOut, UseAfterLogout)
		}
		if d.worked(RefreshAfterLogout) {
			say("renewal-afterlife", "the refresh token gave new tokens after the logout", "The logout ended nothing.",
				revoke, LogOut, RefreshAfterLogout)
		}
		if d.worked(AskIssuerAfter) && a.EndedWithin < slack {
			say(Afterlife, "the issuer calls the token active after the logout", "Services that ask it let it in.",
				"RFC 7662 section 2.2", LogOut, AskIssuerAfter)
		}
	}
	if d.worked(LogOut) && d.worked(UseBeside) && d.refused(UseBesideAfter) && !s.EndsAll {
		say("logout-all", "the logout of one session ended another of the same caller, which worked right before",
			"Who signs out on one device is signed out on all; whoever can sign somebody out once does it everywhere.",
			revoke, LogOut, UseBeside, UseBesideAfter)
	}
	if st, ok := d.Step(LogOutNobody); ok && st.Status >= 200 && st.Status < 300 {
		say("logout-nobody", fmt.Sprintf("a logout that names no session was answered %d", st.Status),
			"A caller whose logout went wrong is told that it went well.", revoke, LogOutNobody)
	}
	if d.worked(LogOutOther) && d.refused(NeighbourRefresh) {
		say("logout-other", "signed in as one caller it ended the session of another",
			"Anybody who has seen a refresh token can sign its owner out.", revoke,
			LogOutOther, NeighbourRefresh)
	}
}
