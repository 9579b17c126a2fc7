package origin

import (
	"slices"
	"time"
)

// Browser says where a browser departs from the standard's text. The zero
// value is the standard.
type Browser struct {
	Name         string
	Departs      []*Departure
	LongestCache time.Duration // the most that a preflight is remembered; 0 is no limit
}

// Chromium is the browser that the evaluator is held against.
var Chromium = Browser{Name: "Chromium", Departs: Departures, LongestCache: 2 * time.Hour}

func (b Browser) does(d *Departure) bool { return slices.Contains(b.Departs, d) }

// Without is the browser as it were if it did not depart in one way.
func (b Browser) Without(d *Departure) Browser {
	b.Departs = slices.DeleteFunc(slices.Clone(b.Departs), func(o *Departure) bool { return o == d })
	return b
}

// Standard is the text of the Fetch standard. Its cache has no limit of its
// own.
var Standard = Browser{Name: "the Fetch standard"}

// defaultMaxAge is how long a preflight holds that says nothing (section 4.8).
const defaultMaxAge = 5 * time.Second

// Departure is one rule that a browser runs otherwise than the standard's text.
type Departure struct {
	ID       string
	Section  string // of the Fetch standard, where no other is named
	Standard string // what the text says
	Browser  string // what the browser does in its place
}

// Departures of Chromium, in the order in which a request meets them. Each is held by cases that
// a browser ran (testkit/exchanges): one that the browser gives up fails there.
var (
	HostsAsTheyAre = &Departure{"labels-as-they-are", "URL standard 3.3",
		"a label that begins with xn-- and is no IDNA makes an address invalid",
		"in an address of ASCII alone it is a name like any other"}
	OwnUserAgent = &Departure{"user-agent", "2.2.2",
		"User-Agent is set by a page after a preflight",
		"what the page sets is left out, and there is no preflight for it"}
	NoDictionary = &Departure{"available-dictionary", "2.2.2",
		"Available-Dictionary is a field like any other",
		"a request that sets it is never sent"}
	RepeatedJoined = &Departure{"repeated-names", "2.2.2",
		"fields of one name are looked at one by one",
		"their values are joined first, and looked at as one"}
	HintsSafelisted = &Departure{"client-hints", "2.2.2",
		"DPR, Downlink, Save-Data and other client hints need a preflight",
		"client hints with a value that they can have need none"}
	RangeOverflow = &Departure{"range-overflow", "2.2.2",
		"the numbers of a simple Range are of any size",
		"with one of 2^63-1 or more a preflight is needed"}
	LocalAsked = &Departure{"local-network", "4.1",
		"addresses of the local network are like others",
		"a page that came from the public network reaches them only where the user permitted it"}
	ModesAskAgain = &Departure{"cache-modes", "4.4",
		"the cache mode has nothing to do with preflights",
		"with no-store, reload or no-cache, and where a conditional field is set, the preflight is sent each " +
			"time"}
	NoStoreForgets = &Departure{"no-store-forgets", "4.8",
		"what a preflight allowed is remembered whatever the cache mode",
		"with no-store it is not"}
	NullForgets = &Departure{"null-forgets", "4.9",
		"what null was allowed is remembered for every page that is null",
		"nothing is remembered for null"}
	LastRemembered = &Departure{"last-remembered", "4.8",
		"what preflights of an address allowed adds up",
		"the last one alone is remembered, and it is forgotten with the first request that it does not cover"}
	StarOfUsers = &Departure{"star-of-users", "4.9",
		"a * among methods or fields that was remembered with the user's cookies covers what comes later",
		"it is a name like any other there too"}
	StarCoversAuth = &Departure{"star-covers-authorization", "4.8",
		"* in Access-Control-Allow-Headers does not cover Authorization",
		"* covers Authorization too, of the preflight's own request"}
	SignedMaxAge = &Departure{"signed-max-age", "4.8",
		"an Access-Control-Max-Age that is no number of seconds is as none: 5 seconds",
		"it is read as a number with a sign: + is nothing, a negative one is 0, and one of 2^63 or more is as " +
			"none"}
	KeptAfterRefusal = &Departure{"cache-outlives-refusal", "4.1",
		"a request that fails clears what its preflight allowed",
		"what was allowed is remembered all the same"}
	RedirectNowhere = &Departure{"redirect-without-location", "4.4",
		"a redirect status is refused where redirects are, with or without Location",
		"without Location it is an answer like any other"}
	EmptyLocation = &Departure{"empty-location", "2.2.6",
		"an empty Location leads back to the same address",
		"it is as none"}
	EqualLocations = &Departure{"equal-locations", "2.2.6",
		"more than one Location is a failure",
		"they are one where they are equal"}
	NamedRedirects = &Departure{"names-in-redirects", "4.5",
		"a redirect to an address with a name or password is followed within an origin, and without CORS",
		"it never is"}
	Departures = []*Departure{
		HostsAsTheyAre, OwnUserAgent, NoDictionary, RepeatedJoined, HintsSafelisted, RangeOverflow,
		LocalAsked, ModesAskAgain, NoStoreForgets, NullForgets, LastRemembered, StarOfUsers, StarCoversAuth,
		SignedMaxAge, KeptAfterRefusal, RedirectNowhere, EmptyLocation, EqualLocations, NamedRedirects,
	}
)
