package review

import "millgate/core/finding"

const (
	bola   = string(finding.API1)
	authn  = string(finding.API2)
	res    = string(finding.API4)
	bfla   = string(finding.API5)
	flows  = string(finding.API6)
	config = string(finding.API8)
	invent = string(finding.API9)
)

// Checks are all checks of the review; docs/review.md is made from them.
// Those without run are the parser's own messages.
var Checks = []Check{
	{"no-entry", "A route without an access entry", "It is for nobody, and nobody said so on purpose. Whoever adds " +
		"it to the service next has no rule to build by.", finding.Medium, invent, 1059, noEntry},
	{"nobody-decided", "Routes of which nobody has decided who may call", "Nothing is expected of them, so that " +
		"nothing is checked: what is wrong there stays unseen.", finding.Medium, invent, 1059, nobodyDecided},
	{"entry-idle", "An entry that never decides", "It looks like protection and is none: more specific entries " +
		"decide every route that it selects.", finding.Low, config, 561, entryIdle},
	{"entry-needless", "An entry that a more general one makes needless",
		"Two lines say one thing. When one is changed later, the other silently keeps the old meaning.", finding.Low,
		config, 1041, entryNeedless},
	{"open-write", "A write that is open to anyone", "Whoever finds the address can create, change or delete, " +
		"without an account to hold to account.", finding.High, bfla, 306, openWrite},
	{"signed-in-write", "A write that is open to every signed-in caller",
		"An account of any kind is enough: a partner's key, a service, a fresh sign-up.", finding.Medium, bfla, 285,
		signedInWrite},
	{"read-by-id", "A read of a record by its id without ownership", "Whoever has an account can go through the ids " +
		"and read everybody's records.", finding.High, bola, 639, readByID},
	{"role-idle", "A role that opens nothing", "Its holders believe that they may do something. Often an entry has " +
		"lost its name in a rename.", finding.Low, config, 561, decided(roleIdle)},
	{"role-all", "A role that opens everything", "One lost credential of its holders is the whole service.",
		finding.Medium, bfla, 250, decided(roleAll)},
	{"role-twins", "Two roles that open the same", "Where they were meant to differ, a distinction is missing; where " +
		"not, one is too many.", finding.Low, bfla, 1041, decided(roleTwins)},
	{"identity-twins", "Identities that cannot be told apart", "One of them is probed and stands for the others; the " +
		"rest cost credentials and prove nothing more.", finding.Low, config, 1041, decided(identityTwins)},
	{"identity-nowhere", "An identity that no route admits", "It has a credential that opens nothing: a rule is " +
		"missing, or a credential should be withdrawn.", finding.Low, authn, 561, decided(identityNowhere)},
	{"neighbour-open", "One method is open and its neighbour guarded",
		"Guards are registered for methods one by one; the forgotten one looks like this.", finding.Medium, bfla, 306,
		neighbourOpen},
	{"method-uneven", "Who may change it may not read it", "A caller who changes what it cannot see is seldom meant; " +
		"most often the read was narrowed and the write forgotten.", finding.Medium, bfla, 285, methodUneven},
	{"route-duplicate", "The same route twice, but for its spelling", "A guard that compares exactly protects one " +
		"spelling, a router that does not serves both.", finding.Medium, invent, 178, routeDuplicate},
	{"route-overlap", "Templates that overlap and are guarded differently",
		"Which of the two serves a request depends on the order in which the service tries them.", finding.Low, config,
		1289, routeOverlap},
	{"route-versions", "Several versions of one route", "The old version seldom gets the new guards.", finding.Low,
		invent, 1059, routeVersions},
	{"route-undescribed", "A route nobody has described", "Who may call it can only be judged when somebody says " +
		"what it is for.", finding.Low, invent, 1059, routeUndescribed},
	{"origin-any-credentials", "Any page may call with credentials", "Every web page that a signed-in person opens " +
		"can act as that person and read the answers.", finding.High, config, 942, originAnyCredentials},
	{"origin-null", "The origin null is permitted", "A sandboxed frame or a local file has the origin null, so any " +
		"page can take it.", finding.High, config, 942, originNull},
	{"origin-plain-http", "An origin over plain http", "Whoever can change traffic on the way can put a script on " +
		"that page.", finding.Medium, config, 319, originPlainHTTP},
	{"origin-wide", "An origin may do more than the routes need",
		"What nobody uses is noticed last when it is misused.", finding.Low, config, 942, originWide},
	{"token-too-long", "A credential that outlives what the route bears",
		"A stolen token opens the route until it ends.", finding.Medium, authn, 613, tokenTooLong},
	{"lifetime-missing", "A scheme without a lifetime", "Nothing says when a lost credential stops to matter.",
		finding.Medium, authn, 613, lifetimeMissing},
	{"refresh-loose", "Refresh tokens that do not rotate or never idle out",
		"A copied refresh token renews itself unseen (RFC 9700, section 4.14).", finding.Medium, authn, 613,
		refreshLoose},
	{"ended-outlives", "Ended credentials that outlive the declared bound",
		"After a logout everybody believes that the session is over.", finding.Medium, authn, 613, endedOutlives},
	{"login-no-quota", "A login, a sign-up or a message to somebody without a quota",
		"Passwords are guessed, mailboxes filled and accounts made as fast as the network carries.", finding.High,
		flows, 307, loginNoQuota},
	{"password-guessable", "A quota that lets a password be guessed", "The quota is there, and too wide: the time is " +
		"computed from its amounts.", finding.High, authn, 307, passwordGuessable},
	{"no-quota", "A sensitive or expensive route without a quota", "One caller can use it up for all, or go through " +
		"it as fast as it answers.", finding.Low, res, 770, noQuota},
	{"quota-never-binds", "A quota that can never bind", "Another is always full first, so this one protects nothing.",
		finding.Low, res, 561, quotaNeverBinds},
	{"quota-by-header", "A quota counted by what the caller writes", "A new value in the header is a new count.",
		finding.High, res, 807, quotaByHeader},
	{"scheme-unused", "A scheme nobody uses", "A way in that nobody needs is still a way in.", finding.Low, authn, 561,
		schemeUnused},
	{"secret-in-clear", "A secret in clear", "The file is read by everybody who reads the repository.", finding.High,
		config, 798, nil},
	{"selects-nothing", "A selector that selects no route", "The rule was meant for something; most often a path has " +
		"changed.", finding.Low, config, 561, nil},
	{"waiver-expired", "A waiver that has ended", "It was accepted until a day that is over; somebody has to decide " +
		"again.", finding.Medium, config, 1059, nil},
	{"waiver-idle", "A waiver that has nothing to accept", "What it accepted is gone; left in the file it would hide " +
		"the next one.", finding.Low, config, 561, nil},
	{"waiver-unknown", "A waiver of an unknown check", "It accepts nothing.", finding.Low, config, 561, nil},
}

// decided is a check that speaks only where of every route somebody has decided whom it is for.
func decided(run func(*reviewer, *Check)) func(*reviewer, *Check) {
	return func(v *reviewer, c *Check) {
		if v.allDecided() {
			run(v, c)
		}
	}
}
