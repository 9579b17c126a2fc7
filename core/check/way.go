package check

import (
	"slices"

	"millgate/core/declaration"
	"millgate/core/token"
)

// Ways in which a credential is broken, beside the variants of core/token.
const (
	NoToken     = "malformed"            // no token at all in its place
	Empty       = "empty"                // the scheme's word and nothing behind it
	Expired     = "expired"              // ended before: re-signed so, or a link kept from then
	NotYet      = "not yet valid"        // re-signed, begins in an hour
	OtherAud    = "wrong audience"       // re-signed for another service
	OtherIss    = "wrong issuer"         // re-signed as another issuer
	TestsOnly   = "of a developer"       // signed as only the machine of a developer may
	OtherTyp    = "wrong typ"            // re-signed as another kind of token (RFC 8725 section 3.11)
	LacksClaim  = "lacks a claim"        // re-signed without one that is required
	OtherKind   = "refresh token"        // the scheme's refresh token
	Ended       = "ended"                // its session was logged out
	OtherScheme = "another scheme"       // the value of another scheme's credential
	OtherOwn    = "another scheme's own" // a sound credential of a scheme that does not count, where it belongs
	KeyCase     = "letter case"          // a key in other letters
	KeyPlace    = "another place"        // a key where it is not declared to be
	InQuery     = "in the query"         // a sound token as a query parameter (RFC 6750 section 2.3)
	// a sound token behind the scheme's word in other letters (RFC 9110 section 11.1)
	SchemeCase  = "word in other case"
	CrossSite   = "cross-site"     // a sound cookie, sent by a page of another site
	OtherBody   = "another body"   // a signature over another body
	OldTime     = "old timestamp"  // soundly signed, longer ago than is tolerated
	Repeated    = "repeated"       // soundly signed, or a link that works once, and sent a second time
	ChangedEnd  = "changed end"    // a link that was given a later end
	OtherRecord = "another record" // a link that was given out for another record

	// Two credentials at once, of which neither would do alone: a sound one of
	// somebody who may not enter, beside a broken one of somebody who may.
	BesideFirst = "two, sound one first"      // two Authorization fields, the sound one first
	BesideLast  = "two, sound one last"       // and last
	OtherBroken = "two schemes, other broken" // a sound one beside a broken one of a scheme that does not count here
	BesideOther = "two schemes"               // the sound one is of another scheme
)

// Besides says whether a way presents two credentials.
func Besides(way string) bool { return way == BesideFirst || way == BesideLast || way == BesideOther }

// Ways that a credential of a scheme can be broken in, in the order of the
// board's columns.
func Ways(s *declaration.Scheme) []string {
	removed := string(token.SignatureRemoved)
	switch s.Kind {
	case declaration.APIKey:
		return []string{Empty, KeyCase, KeyPlace, OtherOwn}
	case declaration.Cookie:
		return []string{NoToken, Empty, CrossSite, Ended, OtherScheme, OtherOwn, BesideOther, OtherBroken}
	case declaration.Basic:
		return []string{NoToken, Empty, OtherScheme, OtherOwn}
	case declaration.Signature:
		out := []string{NoToken, removed, OtherBody, OtherScheme, OtherOwn}
		if s.Signing.Timestamp != "" {
			out = slices.Insert(out, 3, OldTime, Repeated)
		}
		return out
	case declaration.Link:
		out := []string{NoToken, removed}
		if s.Expires != "" {
			out = append(out, ChangedEnd, Expired)
		}
		if s.Once {
			out = append(out, Repeated)
		}
		return append(out, OtherRecord, OtherOwn)
	default:
	}
	out := []string{NoToken, Empty}
	if s.Token == "jwt" {
		for _, v := range token.Variants {
			out = append(out, string(v))
		}
		out = append(out, Expired, NotYet, OtherAud, OtherIss)
		if s.TestsOnly != nil {
			out = append(out, TestsOnly)
		}
		if s.Typ != "" {
			out = append(out, OtherTyp)
		}
		if len(s.Requires) > 0 {
			out = append(out, LacksClaim)
		}
	}
	return append(out, OtherKind, Ended, OtherScheme, OtherOwn, InQuery, SchemeCase, BesideFirst, BesideLast,
		BesideOther,
		OtherBroken)
}

// MustEnter says whether a way is one that a service must admit: there is
// nothing wrong with what counts.
func MustEnter(way string) bool { return way == SchemeCase || way == OtherBroken }

// AllWays are the columns of the Tokens lens for a declaration.
func AllWays(d *declaration.Document) []string {
	var out []string
	for _, s := range d.Schemes {
		for _, w := range Ways(s) {
			if !slices.Contains(out, w) {
				out = append(out, w)
			}
		}
	}
	return out
}

// HasValue says whether a credential of the scheme is one text that could
// stand elsewhere.
func HasValue(s *declaration.Scheme) bool {
	return s.Kind == declaration.Bearer || s.Kind == declaration.APIKey || s.Kind == declaration.Cookie
}
