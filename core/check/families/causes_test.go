package families

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/check/issued"
	"millgate/core/finding"
	"millgate/core/origin"
	"millgate/core/token"
	"millgate/testkit/written"
)

// Whatever cause a probe can give has a row. The lists are those that probes are planned
// from, so that a new word without a row fails here.
func TestEveryCauseHasARow(t *testing.T) {
	known := func(k finding.Kind, cause string) {
		t.Helper()
		_, ok := Causes.Row(k, cause)
		assert.True(t, ok, "%s %q", k, cause)
	}
	for _, o := range []access.Outcome{access.Refuse, access.Forbid, access.Hide} {
		for _, c := range []check.Class{check.Refused, check.Forbidden, check.Hidden, check.ToLogin, check.Invalid,
			check.WrongMethod} {
			if right := map[access.Outcome]check.Class{access.Refuse: check.Refused, access.Forbid: check.Forbidden,
				access.Hide: check.Hidden}[o]; c != right {
				known(finding.WrongRefusal, o.String()+" "+string(c))
			}
		}
	}
	known(finding.WrongRefusal, access.Either.String()+" "+string(check.Forbidden))
	for _, c := range []check.Class{check.Refused, check.Forbidden, check.Hidden, check.ToLogin} {
		known(finding.OverRestrictive, "admit "+string(c))
	}
	// What a judgement of something issued says is a gap where it is at least medium.
	for _, c := range token.Checks {
		row := finding.RowOf(issued.Family{}.Causes().Rows, "token "+c.ID)
		if assert.Equal(t, c.Severity.AtLeast(finding.Medium), row != nil, c.ID) && row != nil {
			assert.Equal(t, c.Severity, row.Severity, "%s is as grave as docs/tokens.md says", c.ID)
		}
	}
	for _, k := range origin.Kinds {
		known(finding.OverPermissive, "origin "+k)
	}
	for _, id := range []string{origin.JOrigin, origin.JMethod, origin.JCredentials, origin.JHeaders} {
		known(finding.OverPermissive, "origin "+id+" https://a.example")
	}
	for _, id := range []string{origin.JMissing, origin.JGuarded, origin.JExpose, origin.JVary, origin.JRefusal} {
		known(finding.OverRestrictive, "origin "+id+" https://a.example")
	}
}

// docs/findings.md says of each cause what the catalogue says; UPDATE_DOCS=1 writes it.
func TestCausesAreDocumented(t *testing.T) {
	const file = "../../../docs/findings.md"
	var b strings.Builder
	b.WriteString(findingsIntro)
	named := strings.NewReplacer("{what}", "…", "{route}", "the route")
	for _, f := range Causes.Families {
		fmt.Fprintf(&b, "\n## %s\n\n**How it is shown.** %s\n\n**What refutes it.** %s\n", f.Title, f.Shown, f.Refuted)
		for _, r := range f.Rows {
			fmt.Fprintf(&b, "\n<a id=\"%s\"></a>\n\n### %s\n\n%s %s", r.Anchor(), named.Replace(r.Title), r.Kind,
				r.Kind.Name())
			if r.Severity != "" {
				fmt.Fprintf(&b, " · %s", r.Severity)
			}
			fmt.Fprintf(&b, " · %s, CWE-%d", r.OWASP, r.CWE)
			if r.Standard != "" {
				fmt.Fprintf(&b, " · %s", r.Standard)
			}
			fmt.Fprintf(&b, "\n\n%s\n\n**What to do.** %s\n", r.Means, named.Replace(r.Advice))
			if len(r.PartOf) > 0 {
				fmt.Fprintf(&b, "\n**Is part of another finding at its route.** Where that shows as well: %s\n",
					strings.Join(titled(t, r), "; "))
			}
			if len(r.Covers) > 0 {
				var titles []string
				for _, c := range r.Covers {
					row, ok := Causes.Row(r.Kind, c)
					require.True(t, ok, "%s covers %s, which no row has", r.Cause, c)
					require.NotContains(t, row.Covers, r.Cause, "they cover each other")
					titles = append(titles, fmt.Sprintf("[%s](#%s)", row.Title, row.Anchor()))
				}
				fmt.Fprintf(&b, "\n**Shows with it, and is no finding of its own then.** %s\n",
					strings.Join(titles, "; "))
			}
			if r.Shown != "" {
				fmt.Fprintf(&b, "\n**How it is shown.** %s\n", r.Shown)
			}
			if r.Refuted != "" {
				fmt.Fprintf(&b, "\n**What refutes it.** %s\n", r.Refuted)
			}
		}
	}
	written.File(t, file, b.String())
}

// titled are the causes that a row can be part of, with links.
func titled(t *testing.T, r *finding.Row) (out []string) {
	t.Helper()
	for _, cause := range r.PartOf {
		n := len(out)
		for _, f := range Causes.Families {
			if row := finding.RowOf(f.Rows, cause); row != nil {
				link := fmt.Sprintf("[%s](#%s)", row.Title, row.Anchor())
				if !slices.Contains(out, link) {
					out = append(out, link)
				}
			}
		}
		require.Greater(t, len(out), n, "%s is part of %s, which no row has", r.Cause, cause)
	}
	return out
}

const findingsIntro = `# Findings

Every finding of a sweep has one of these causes. Its text links here, by the anchor of the
cause. How grave a finding is follows from [the table of severities](severity.md), unless a
severity stands with the cause. This file is written by a test from the code
(` + "`UPDATE_DOCS=1 go test ./core/check/families`" + `).

*Proven* is what observations show by themselves or beside an admitted control; *likely* what
they speak for; the rest is *unproven* and no finding.

What becomes of findings over sweeps, and how they are accepted and handed on, says [triage](triage.md).
`
