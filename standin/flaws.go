// Package standin is the Fernhollow Observatory: a small simulated service
// that shares telescope time, with an issuer of its own. It ships with Mill
// Gate for the demo and the tests.
//
// Without flaws it does exactly what its declaration says. Each flaw is one
// switch, so that it can be seen whether that fault is found, and only that.
// The package shares no code with what judges it.
package standin

import (
	"fmt"
	"slices"
	"strings"
)

// Flaw is a switch that makes the service wrong in one way.
type Flaw string

const (
	AbsentHeaderPasses Flaw = "absent-header-passes"
	ForgottenVerb      Flaw = "forgotten-verb"
	GuardAfterHandler  Flaw = "guard-after-handler"
	StrangerReads      Flaw = "stranger-reads"
	StrangerDeletes    Flaw = "stranger-deletes"
	ObserverSlews      Flaw = "observer-slews"
	AuditorWrites      Flaw = "auditor-writes"
	UnverifiedPasses   Flaw = "unverified-passes"
	MissingKey400      Flaw = "missing-key-400"
	Role401            Flaw = "role-401"
	LoginPage          Flaw = "login-page"
	SecretEcho         Flaw = "secret-echo"
	HTML404            Flaw = "html-404"
	StackTrace         Flaw = "stack-trace"
	SlashSlips         Flaw = "slash-slips"
	CaseSlips          Flaw = "case-slips"
	VerbOverride       Flaw = "verb-override"
	RoleFromBody       Flaw = "role-from-body"
	OldDoor            Flaw = "old-door"
	DebugDoor          Flaw = "debug-door"
	SaysNoDoesIt       Flaw = "says-no-does-it"
	AnyPassword        Flaw = "any-password"
	UnsignedToken      Flaw = "unsigned-token"
	PublicKeyAsSecret  Flaw = "public-key-as-secret"
	AnyAudience        Flaw = "any-audience"
	AnyIssuer          Flaw = "any-issuer"
	ExpiryIgnored      Flaw = "expiry-ignored"
	RefreshAsAccess    Flaw = "refresh-as-access"
	GuessableSecret    Flaw = "guessable-secret"
	LongLife           Flaw = "long-life"
	DeafEnd            Flaw = "deaf-end"
	LingeringAccess    Flaw = "lingering-access"
	NoRotation         Flaw = "no-rotation"
	ReuseTolerated     Flaw = "reuse-tolerated"
	LooseCookie        Flaw = "loose-cookie"
	AlertUnsigned      Flaw = "alert-unsigned"
	AlertReplay        Flaw = "alert-replay"
	LinkForever        Flaw = "link-forever"
	LinkFitsAll        Flaw = "link-fits-all"
	GatewayOnly        Flaw = "gateway-only"
	MirrorOrigin       Flaw = "mirror-origin"
	NullOrigin         Flaw = "null-origin"
	SuffixOrigin       Flaw = "suffix-origin"
	PlainHTTPOrigin    Flaw = "plain-http-origin"
	PolicyNotAttached  Flaw = "policy-not-attached"
	LoginUnthrottled   Flaw = "login-unthrottled"
	WrittenByCaller    Flaw = "written-by-caller"
	CountedPerNode     Flaw = "counted-per-node"
	EdgeDoubles        Flaw = "edge-doubles"
	CountedPerRoute    Flaw = "counted-per-route"
	DomeCrowded        Flaw = "dome-crowded"
	OneCountForAll     Flaw = "one-count-for-all"
	RestartForgets     Flaw = "restart-forgets"
	WrongRefusal503    Flaw = "wrong-refusal-503"
	DataAsPage         Flaw = "data-as-page"
	GuardBreaks        Flaw = "guard-breaks"
	ServesNoOne        Flaw = "serves-no-one"
	LogoutEndsAll      Flaw = "logout-ends-all"
	HostNotCounted     Flaw = "host-not-counted"
	LocalExempt        Flaw = "local-exempt"
	DeveloperToken     Flaw = "developer-token"
	QueueLonger        Flaw = "queue-longer"
	PurgeRevives       Flaw = "purge-revives"
	IdleIgnored        Flaw = "idle-ignored"
	DocsOpen           Flaw = "docs-open"
	DocsNameMore       Flaw = "docs-name-more"
	BodyBeforeGuard    Flaw = "body-before-guard"
	QuotaBeforeGuard   Flaw = "quota-before-guard"
	SkewFiveMinutes    Flaw = "skew-five-minutes"
	VerifyNoEffect     Flaw = "verify-no-effect"
	ResendUnlimited    Flaw = "resend-unlimited"
	LinkTwice          Flaw = "link-twice"
	PasswordWeak       Flaw = "password-weak"
	AccountUnusable    Flaw = "account-unusable"
	RoleAtSignUp       Flaw = "role-at-sign-up"
	StateIgnored       Flaw = "state-ignored"
	TenantCrossed      Flaw = "tenant-crossed"
	TenantMixed        Flaw = "tenant-mixed"
	WrongChallenge     Flaw = "wrong-challenge"
	ListShowsOthers    Flaw = "list-shows-others"
	StackOnBadBody     Flaw = "stack-on-bad-body"
)

// What says in a sentence what each flaw does.
var What = []struct {
	Flaw Flaw
	Text string
}{
	{AbsentHeaderPasses, "the people list is open when no Authorization header is sent"},
	{ForgottenVerb, "changing an observation has no guard"},
	{GuardAfterHandler, "the audit's guard is registered behind its handler and never runs"},
	{StrangerReads, "any observer reads anyone's proposal"},
	{StrangerDeletes, "any observer deletes anyone's frame"},
	{ObserverSlews, "observers move the dome"},
	{AuditorWrites, "the auditor may reconfigure instruments"},
	{UnverifiedPasses, "the verified e-mail is not checked on frames"},
	{MissingKey400, "a missing partner key is answered 400"},
	{Role401, "a missing role is answered 401 where proposals are approved"},
	{LoginPage, "the list of observations sends callers to a login page"},
	{SecretEcho, "sign-up answers with the password hash"},
	{HTML404, "unknown paths are answered with a page"},
	{StackTrace, "a malformed object id shows a stack trace"},
	{SlashSlips, "a trailing or doubled slash steps around the audit's guard"},
	{CaseSlips, "upper case steps around the guard of the people list"},
	{VerbOverride, "a method override header steps around the guard of a frame"},
	{RoleFromBody, "a profile takes roles from the body"},
	{OldDoor, "last year's address /v0/proposals is still served"},
	{DebugDoor, "/debug/vars is served"},
	{SaysNoDoesIt, "deleting a frame answers 401 and deletes it"},
	{AnyPassword, "login succeeds with any password"},
	{UnsignedToken, "frames accept an unsigned token"},
	{PublicKeyAsSecret, "the public key is accepted as an HMAC secret"},
	{AnyAudience, "the audience of a token is not compared"},
	{AnyIssuer, "the issuer of a token is not compared"},
	{ExpiryIgnored, "expired tokens pass"},
	{RefreshAsAccess, "a refresh token is accepted as an access token"},
	{GuessableSecret, "tokens are signed HS256 with a common word"},
	{LongLife, "access tokens live 24 hours"},
	{DeafEnd, "ending the session ends nothing"},
	{LingeringAccess, "the access token works on after the session was ended"},
	{NoRotation, "renewing a session gives the same refresh token again"},
	{ReuseTolerated, "a refresh token that was used goes on working"},
	{LooseCookie, "the console's cookie has no HttpOnly, Secure and SameSite, and writes of other sites are accepted"},
	{AlertUnsigned, "alerts are taken without a signature"},
	{AlertReplay, "an alert can be repeated"},
	{LinkForever, "the end of a signed link is not compared with the clock"},
	{LinkFitsAll, "a link's signature does not hold its path"},
	{GatewayOnly, "the service behind the gateway has no guards"},
	{MirrorOrigin, "any origin is mirrored, with credentials"},
	{NullOrigin, "the origin null is permitted as the staff's is"},
	{SuffixOrigin, "an origin is permitted whose name ends in fernhollow.example"},
	{PlainHTTPOrigin, "the staff's origin is permitted over plain http"},
	{PolicyNotAttached, "the staff's origin gets no permission"},
	{LoginUnthrottled, "logins are not counted"},
	{WrittenByCaller, "callers are counted by the X-Forwarded-For that they write"},
	{CountedPerNode, "each node counts alone"},
	{CountedPerRoute, "the general quota counts each route by itself"},
	{DomeCrowded, "any number of calls reach the dome at the same time"},
	{EdgeDoubles, "partners are counted in fixed windows on the clock"},
	{OneCountForAll, "all partners share one count"},
	{RestartForgets, "a restart sets all counts to zero"},
	{WrongRefusal503, "too many calls are answered 503 without Retry-After"},
	{DataAsPage, "asked for a page, frames are shown to nobody"},
	{GuardBreaks, "without a credential the status of the dome fails with 500"},
	{ServesNoOne, "the list of instruments fails with 500 for everybody"},
	{LogoutEndsAll, "ending one session ends all of its caller"},
	{HostNotCounted, "each Host field that a caller writes has a count of its own"},
	{LocalExempt, "a forwarded local address is not counted"},
	{QueueLonger, "twenty calls of a partner may wait, in place of two"},
	{PurgeRevives, "what was ended is forgotten before it ends by itself"},
	{IdleIgnored, "a session of the console that nobody uses does not end"},
	{DocsOpen, "the description of the API, and a page of it, are told to anybody"},
	{DocsNameMore, "the description names diagnostics, which nobody declared"},
	{BodyBeforeGuard, "bodies are parsed and refused before anybody is asked who they are"},
	{QuotaBeforeGuard, "calls are counted for whomever a token names, before it is verified"},
	{DeveloperToken, "tokens of a developer's issuer pass"},
	{SkewFiveMinutes, "tokens are taken for five minutes after their end and before their beginning"},
	{VerifyNoEffect, "confirming an address changes nothing"},
	{ResendUnlimited, "mails that are sent again are not counted"},
	{LinkTwice, "a mailed link works again"},
	{PasswordWeak, "sign-up takes any password"},
	{AccountUnusable, "an account that was signed up cannot sign in"},
	{RoleAtSignUp, "sign-up takes roles from the body"},
	{StateIgnored, "drafts of proposals are read by anyone, as what is published"},
	{TenantCrossed, "the notes of another team are read"},
	{TenantMixed, "a note of another team is read below one's own"},
	{StackOnBadBody, "a body that cannot be read shows a stack trace"},
	{ListShowsOthers, "the list of proposals has those of other teams"},
	{WrongChallenge, "the 401 asks for another scheme than the one that is accepted"},
}

// Demo are the flaws of the demonstration.
var Demo = []Flaw{AbsentHeaderPasses, ForgottenVerb, StrangerReads, ObserverSlews, MissingKey400, Role401, LoginPage,
	SecretEcho, OldDoor, DebugDoor, UnsignedToken, LongLife, DeafEnd, AlertReplay, MirrorOrigin, LoginUnthrottled,
	CountedPerNode, WrongRefusal503}

// ParseFlaws reads "none", "demo" or names separated by commas.
func ParseFlaws(s string) ([]Flaw, error) {
	switch s {
	case "", "none":
		return nil, nil
	case "demo":
		return Demo, nil
	}
	var out []Flaw
	for _, f := range strings.Split(s, ",") {
		f := Flaw(strings.TrimSpace(f))
		if !slices.ContainsFunc(What, func(w struct {
			Flaw Flaw
			Text string
		}) bool {
			return w.Flaw == f
		}) {
			names := make([]string, len(What))
			for i, w := range What {
				names[i] = string(w.Flaw)
			}
			return nil, fmt.Errorf("%q is not a flaw; known are none, demo, %s", f, strings.Join(names, ", "))
		}
		out = append(out, f)
	}
	return out, nil
}
