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

// Departure is one rule that a browser runs otherwise than the standard's text.
type Departure struct {
	ID       string
	Section  string // of the Fetch standard
	Standard string // what the text says
	Browser  string // what the browser does in its place
}

// Departures of Chromium, each with a case in the test that runs beside it.
var (
	StarCoversAuth = &Departure{"star-covers-authorization", "4.8",
		"* in Access-Control-Allow-Headers does not cover Authorization", "* covers Authorization too"}
	HintsSafelisted = &Departure{"client-hints", "2.2.2", "DPR, Downlink, Save-Data and other client hints need a " +
		"preflight", "client hints with a plain value need none"}
	RefusedMaxAge = &Departure{"negative-max-age", "4.8", "an Access-Control-Max-Age that is no number of " +
		"seconds is as none: 5 seconds", "a negative one is 0: nothing is remembered"}
	KeptAfterRefusal = &Departure{"cache-outlives-refusal", "4.1", "a failed request clears what its preflight " +
		"allowed", "what was allowed is remembered all the same"}
	RedirectNowhere = &Departure{"redirect-without-location", "4.3",
		"a redirect status is refused where redirects are, with or without Location",
		"without Location it is an answer like any other"}
	chromiumDepartures = []*Departure{StarCoversAuth, HintsSafelisted, RefusedMaxAge, KeptAfterRefusal, RedirectNowhere}
)

// Chromium is the browser that the evaluator is held against.
var Chromium = Browser{Name: "Chromium", Departs: chromiumDepartures, LongestCache: 2 * time.Hour}

func (b Browser) does(d *Departure) bool { return slices.Contains(b.Departs, d) }

// Standard is the text of the Fetch standard. Its cache has no limit of its
// own.
var Standard = Browser{Name: "the Fetch standard"}

// defaultMaxAge is how long a preflight holds that says nothing (section 4.8).
const defaultMaxAge = 5 * time.Second
