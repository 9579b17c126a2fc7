package origin_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/origin"
	"millgate/testkit/exchanges"
	"millgate/testkit/written"
)

// What a browser made of all exchanges is what is computed, and each departure is one that some of
// them show: without it they come out otherwise.
func TestWhatABrowserDid(t *testing.T) {
	at := exchanges.Hosts{Page: "http://127.0.0.1:4701", Service: "http://127.0.0.1:4702",
		Other: "http://127.0.0.1:4703"}
	list := exchanges.All(at)
	recorded, err := exchanges.Chromium()
	require.NoError(t, err)
	require.Len(t, recorded.Told, len(list), "run make browser-cases: what is recorded is of other cases")
	for ground, n := range exchanges.Grounds(list) {
		assert.GreaterOrEqual(t, n, 40, "exchanges on the ground %q", ground)
	}
	shown := map[*origin.Departure]int{}
	var apart []*exchanges.Exchange
	for _, x := range list {
		told, ok := recorded.Told[x.Key()]
		require.True(t, ok, "run make browser-cases: %s is not recorded", x.Key())
		if why := exchanges.Apart(at.Evaluated(x, origin.Chromium), told); why != "" {
			t.Errorf("%s: %s", x.Key(), why)
		}
		if !at.Evaluated(x, origin.Standard).Same(told) {
			apart = append(apart, x)
		}
	}
	for _, d := range origin.Departures {
		less := origin.Chromium.Without(d)
		for _, x := range apart {
			if !at.Evaluated(x, less).Same(recorded.Told[x.Key()]) {
				shown[d]++
			}
		}
		assert.NotZero(t, shown[d], "no exchange shows %s", d.ID)
		t.Logf("%-28s %4d", d.ID, shown[d])
	}
	t.Logf("%d exchanges in %s, %d other than the standard's text", len(list), recorded.Browser, len(apart))
}

// docs/origins.md lists every judgement and departure; UPDATE_DOCS=1 writes the tables.
func TestDocumentation(t *testing.T) {
	const file = "../../docs/origins.md"
	var said, departs strings.Builder
	said.WriteString("| id | what it says | sort | section |\n| --- | --- | --- | --- |\n")
	for _, r := range origin.Judgements {
		sort := string(r.Sort)
		if r.Minor {
			sort += ", a little"
		}
		fmt.Fprintf(&said, "| `%s` | %s | %s | %s |\n", r.ID, r.Says, sort, r.Section)
	}
	departs.WriteString("| departure | section | the standard | Chromium |\n| --- | --- | --- | --- |\n")
	for _, d := range origin.Departures {
		fmt.Fprintf(&departs, "| `%s` | %s | %s | %s |\n", d.ID, d.Section, d.Standard, d.Browser)
	}
	written.Parts(t, file, map[string]string{"judgements": said.String(), "departures": departs.String()})
}
