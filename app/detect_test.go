package app

import (
	"fmt"
	"hash/fnv"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/app/events"
	"millgate/app/sweep"
	"millgate/core/check"
	"millgate/core/check/detour"
	"millgate/core/finding"
	"millgate/examples"
	"millgate/standin"
	"millgate/store"
	"millgate/testkit/memnet"
)

// detection says for each flaw what must be found, and nothing else.
var detection = []struct {
	flaw standin.Flaw
	want []string // kind and route
}{
	{"", nil},
	{standin.AbsentHeaderPasses, []string{"U GET /v1/people"}},
	{standin.ForgottenVerb, []string{"U PATCH /v1/observations/{observation_id}"}},
	{standin.GuardAfterHandler, []string{"U GET /v1/audit"}},
	{standin.StrangerReads, []string{"P GET /v1/proposals/{proposal_id}"}},
	{standin.StrangerDeletes, []string{"P DELETE /v1/frames/{frame_id}"}},
	// Whoever comes, and nobody: for drafts there is no guard.
	{standin.StateIgnored, []string{"U GET /v1/proposals/{proposal_id}"}},
	{standin.TenantCrossed, []string{"P GET /v1/teams/{team_id}/notes"}},
	{standin.TenantMixed, []string{"P GET /v1/teams/{team_id}/notes/{note_id}"}},
	{standin.StackOnBadBody, []string{"L POST /v1/cutouts"}},
	{standin.ListShowsOthers, []string{"P GET /v1/proposals"}},
	{standin.WrongChallenge, []string{"W everything answered with an error without a challenge of Bearer"}},
	{standin.ObserverSlews, []string{"P POST /v1/dome/slew"}},
	{standin.AuditorWrites, []string{"P PUT /v1/instruments/{instrument_id}"}},
	// The attribute is forgotten on the list and on the link.
	{standin.UnverifiedPasses, []string{"P GET /v1/frames", "P POST /v1/frames/{frame_id}/link"}},
	// All routes behind the partner key answer alike.
	{standin.MissingKey400, []string{"W the guard of partner-key"}},
	{standin.Role401, []string{"W POST /v1/proposals/{proposal_id}/approve"}},
	{standin.LoginPage, []string{"W GET /v1/observations"}},
	{standin.SecretEcho, []string{"L POST /v1/people"}},
	{standin.HTML404, []string{"W " + finding.AnyPath}},
	{standin.StackTrace, []string{"L GET /v1/sky/objects/{object_id}"}},
	{standin.SlashSlips, []string{"U GET /v1/audit"}},
	{standin.CaseSlips, []string{"U GET /v1/people"}},
	// Both methods of a frame can be reached through the header.
	{standin.VerbOverride, []string{"U DELETE /v1/frames/{frame_id}", "U GET /v1/frames/{frame_id}"}},
	{standin.RoleFromBody, []string{"P PATCH /v1/people/{person_id}"}},
	{standin.RoleAtSignUp, []string{"P POST /v1/people"}},
	{standin.OldDoor, []string{"X GET /v0/proposals"}},
	{standin.DebugDoor, []string{"X GET /debug/vars"}},
	{standin.SaysNoDoesIt, []string{"U DELETE /v1/frames/{frame_id}"}},
	{standin.AnyPassword, []string{"U POST id:/v1/session"}},
	{standin.UnsignedToken, []string{"U GET /v1/frames"}},
	// One soundness check serves all routes, so that is one finding.
	{standin.PublicKeyAsSecret, []string{"U " + behind}},
	{standin.AnyAudience, []string{"U " + behind}},
	{standin.AnyIssuer, []string{"U " + behind}},
	{standin.ExpiryIgnored, []string{"U " + behind}},
	{standin.RefreshAsAccess, []string{"U " + behind}},
	{standin.GuessableSecret, []string{"K " + behind, "K everything behind service"}},
	{standin.LongLife, []string{"S " + behind, "S everything behind service"}},
	{standin.DeafEnd, []string{"S " + behind}},
	{standin.LingeringAccess, []string{"S " + behind}},
	{standin.NoRotation, []string{"S " + behind}},
	{standin.ReuseTolerated, []string{"S " + behind}},
	{standin.LooseCookie, []string{"U POST /v1/console/notices", "K everything behind console"}},
	{standin.AlertUnsigned, []string{"U POST /v1/alerts"}},
	{standin.AlertReplay, []string{"U POST /v1/alerts"}},
	{standin.LinkForever, []string{"U GET /v1/downloads/{frame_id}"}},
	{standin.LinkFitsAll, []string{"U GET /v1/downloads/{frame_id}"}},
	{standin.GatewayOnly, []string{"U " + detour.PastAll.String()}},
	// One policy is for the public pages, the other for the rest.
	{standin.MirrorOrigin, []string{"P " + atAll, "P " + atSky}},
	{standin.NullOrigin, []string{"P " + atAll, "P " + atSky}},
	{standin.SuffixOrigin, []string{"P " + atAll, "P " + atSky}},
	{standin.PlainHTTPOrigin, []string{"P " + atAll, "P " + atSky}},
	{standin.PolicyNotAttached, []string{"R " + atAll}},
	{standin.LoginUnthrottled, []string{"T quota login"}},
	{standin.WrittenByCaller, []string{"T quota login", "T quota message", "T quota issuer", "T quota general"}},
	{standin.CountedPerNode, []string{"T quota login", "T quota message", "T quota issuer", "T quota general",
		"T quota cutouts", "T quota partner"}},
	{standin.WrongRefusal503, []string{"W quota login", "W quota message", "W quota issuer", "W quota general",
		"W quota cutouts", "W quota partner", "W quota dome"}},
	{standin.CountedPerRoute, []string{"T quota general"}},
	{standin.DomeCrowded, []string{"T quota dome"}},
	{standin.LogoutEndsAll, []string{"R " + behind}},
	{standin.HostNotCounted, []string{"T quota login", "T quota message", "T quota issuer", "T quota general"}},
	{standin.LocalExempt, []string{"T quota login", "T quota message", "T quota issuer", "T quota general"}},
	{standin.DeveloperToken, []string{"U " + behind}},
	{standin.QueueLonger, []string{"T quota partner"}},
	{standin.PurgeRevives, []string{"S " + behind}},
	{standin.DocsOpen, []string{"X everything that describes it"}},
	{standin.DocsNameMore, []string{"X GET /v1/diagnostics"}},
	{standin.BodyBeforeGuard, []string{"L the guard of access or service", "L the guard of partner-key",
		"L the guard of console"}},
	{standin.QuotaBeforeGuard, []string{"R quota cutouts", "R quota general"}},
	{standin.SkewFiveMinutes, []string{"S " + behind}},
	{standin.VerifyNoEffect, []string{"R GET id:/v1/session/email/confirm"}},
	{standin.ResendUnlimited, []string{"T quota message"}},
	{standin.LinkTwice, []string{"U GET id:/v1/session/email/confirm"}},
	{standin.PasswordWeak, []string{"P POST /v1/people"}},
	{standin.AccountUnusable, []string{"R POST /v1/people"}},
	{standin.DataAsPage, []string{"U GET /v1/frames"}},
	{standin.GuardBreaks, []string{"W GET /v1/dome/status"}},
	{standin.ServesNoOne, []string{"R GET /v1/instruments"}},
}

// detectedAlone are the flaws that no sweep can see: they show over time, after a
// restart, or only where there is a second partner.
var detectedAlone = []struct {
	flaw    standin.Flaw
	want    string
	longest time.Duration // of the stand-in's windows
	idle    time.Duration // after which its sessions end
	find    func(t *testing.T, a *App, s *standin.Running, names renaming) string
}{
	{standin.IdleIgnored, "S everything behind console", 0, 2 * time.Second, func(t *testing.T, a *App,
		_ *standin.Running,
		_ renaming) string {
		now := a.Workspace.Declaration()
		_, err := a.Workspace.Keep(t.Context(), strings.Replace(now.Text, "drill: 200ms",
			"drill: { for: 3s, lifetimes: { console: { idle: 2s } } }", 1), "shorter", now.Revision)
		require.NoError(t, err)
		_, res := swept(t, a)
		var out []string
		for _, f := range res.Findings {
			out = append(out, string(f.Kind)+" "+f.Where())
		}
		return strings.Join(out, ", ")
	}},
	{standin.EdgeDoubles, "T quota partner", partnerWindow, 0, func(t *testing.T, a *App, _ *standin.Running,
		names renaming) string {
		return partnerDrill(t, a, names, "")
	}},
	{standin.OneCountForAll, "R quota partner", partnerWindow, 0, func(t *testing.T, a *App, _ *standin.Running,
		names renaming) string {
		return partnerDrill(t, a, names, "identities:\n  moth: { credentials: { partner-key: { key: env:MOTH_KEY } } "+
			"}\n")
	}},
	{standin.RestartForgets, "forgets", 0, 0, func(t *testing.T, a *App, s *standin.Running, _ renaming) string {
		r, err := a.Sweeps.FillForRestart(t.Context(), "stand-in", "login")
		require.NoError(t, err)
		assert.Equal(t, 8, r.Calls)
		assert.InDelta(t, 300, r.Left.Seconds(), 2)
		s.Service.Restart()
		r, err = a.Sweeps.CompareAfterRestart(t.Context(), "stand-in", "login")
		require.NoError(t, err)
		assert.False(t, r.Late)
		if r.Forgets {
			return "forgets"
		}
		return ""
	}},
}

// partnerWindow is the window of the partners' quota there: the declared one of
// 10 s takes long.
const partnerWindow = 2 * time.Second

// partnerDrill drills the partners' quota by itself: it takes longer than one
// within a sweep. more is put in place of the line of identities.
func partnerDrill(t *testing.T, a *App, names renaming, more string) string {
	now := a.Workspace.Declaration()
	text := strings.Replace(now.Text, "drill: 200ms", "drill: { for: 160ms, quotas: { partner: 30 per 2s } }", 1)
	if more != "" {
		text = strings.Replace(text, "identities:\n", more, 1)
	}
	_, err := a.Workspace.Keep(t.Context(), text, "for longer", now.Revision)
	require.NoError(t, err)
	route := names.text("GET /v1/partners/feed")
	r, err := a.Sweeps.ProbeAgain(t.Context(),
		"stand-in", []sweep.CrossingKey{{Route: route, Caller: check.QuotaColumn + "partner"}})
	require.NoError(t, err)
	a.Sweeps.Wait(r.ID)
	v, err := a.View.Crossing(t.Context(), "stand-in", route, "counted:key")
	require.NoError(t, err)
	require.Len(t, v.Probes, 1)
	require.NotNil(t, v.Probes[0].Fact)
	t.Log(v.Probes[0].Verdict.Reason)
	if k := v.Probes[0].Verdict.Kind; k.IsGap() {
		return string(k) + " quota partner"
	}
	return ""
}

const (
	behind = "everything behind access"
	atAll  = "pages at /v1/**"
	atSky  = "pages at GET /v1/sky/**"
)

// renaming replaces words of paths, parameters, identities and ids.
type renaming map[string]string

var renamed = []string{"proposals", "observations", "frames", "downloads", "cutouts", "dome", "instruments", "people",
	"partners", "alerts", "audit", "sky", "objects", "calendar",
	"logout", "slew", "park", "approve", "submit", "feed", "requests", "console", "overview", "notices", "status",
	"teams", "notes"}
var renamedNames = []string{"imre", "tove", "sanna", "odell", "quill", "nightrun", "lanternfish", "vesper"}
var renamedParams = []string{"proposal_id", "observation_id", "frame_id", "object_id", "instrument_id", "person_id",
	"team_id", "note_id"}
var renamedPrefixes = []string{"p", "o", "f", "in", "person", "n"}

func newRenaming(seed int) renaming {
	r := renaming{}
	for i, w := range slices.Concat(renamed, renamedNames, renamedParams, renamedPrefixes) {
		r[w] = fmt.Sprintf("w%dx%d", (i*7+seed*13)%97, seed*100+i)
	}
	return r
}

var (
	pathSegment = regexp.MustCompile(`/[a-z]+`)
	param       = regexp.MustCompile(`\b[a-z]+_id\b`)
	word        = regexp.MustCompile(`[A-Za-z_]+`)
	sampleID    = regexp.MustCompile(`\b(p|o|f|in|n)-(\d+)\b`)
)

// text renames a declaration or an OpenAPI file.
func (r renaming) text(s string) string {
	if r == nil {
		return s
	}
	sub := func(w string) string {
		if n, ok := r[w]; ok {
			return n
		}
		return w
	}
	s = pathSegment.ReplaceAllStringFunc(s, func(m string) string {
		if slices.Contains(renamed, m[1:]) {
			return "/" + sub(m[1:])
		}
		return m
	})
	s = param.ReplaceAllStringFunc(s, sub)
	s = sampleID.ReplaceAllStringFunc(s, func(m string) string {
		p, n, _ := strings.Cut(m, "-")
		return sub(p) + "-" + n
	})
	return word.ReplaceAllStringFunc(s, func(m string) string {
		if slices.Contains(renamedNames, m) {
			return sub(m)
		}
		return m
	})
}

// opened writes the example declaration for a running stand-in and opens it.
func opened(t testing.TB, s *standin.Running, r renaming, dataDir string) *App {
	t.Helper()
	dir := t.TempDir()
	list, err := examples.Fernhollow.ReadDir("fernhollow")
	require.NoError(t, err)
	for _, e := range list {
		b, err := examples.Fernhollow.ReadFile("fernhollow/" + e.Name())
		require.NoError(t, err)
		text := r.text(string(b))
		text = strings.NewReplacer("http://127.0.0.1:7401", s.Base, "http://127.0.0.1:7402", s.IssuerURL,
			"http://127.0.0.1:7403",
			s.Mail,
			"http://127.0.0.1:7411", s.Direct, "pace: 400 per 1s",
			"pace: 100000 per 1s\n    drill: 200ms").Replace(text)
		require.NoError(t, os.WriteFile(filepath.Join(dir, e.Name()), []byte(text), 0o600))
	}
	for k, v := range standin.Secrets() {
		t.Setenv(k, v)
	}
	t.Setenv("FERNHOLLOW_EXPIRED_LINK", s.Service.ExpiredLink())
	a, err := Open(t.Context(), dataDir, filepath.Join(dir, "fernhollow.gate.yaml"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, a.Close()) })
	return a
}

func listen(t testing.TB, opt standin.Options) *standin.Running {
	t.Helper()
	opt.Gateway, opt.Quotas = true, true
	s, err := standin.Listen("127.0.0.1:0", opt)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

func swept(t testing.TB, a *App) (*events.Run, coverage.Result) {
	t.Helper()
	return sweptAt(t, a, "stand-in")
}

func sweptAt(t testing.TB, a *App, target string) (*events.Run, coverage.Result) {
	t.Helper()
	r, err := a.Sweeps.Start(t.Context(), target, "")
	require.NoError(t, err)
	a.Sweeps.Wait(r.ID)
	run, res, err := a.Sweeps.Result(t.Context(), r.ID)
	require.NoError(t, err)
	require.Equal(t, store.Done, run.State, run.Note)
	return run, res
}

// TestDetection finds each flaw alone, and nothing else. MILLGATE_DRAW chooses some
// of them; without it all are tried, as they ship and renamed.
func TestDetection(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long; make test and make soak have it")
	}
	draw := os.Getenv("MILLGATE_DRAW")
	for _, seed := range []int{0, 7} {
		names, label := renaming(nil), "as it ships"
		if seed != 0 {
			names, label = newRenaming(seed), "renamed"
		}
		t.Run(label, func(t *testing.T) {
			found, wanted, alarms := 0, 0, 0
			for _, c := range detection {
				if !drawn(draw, string(c.flaw), label) {
					continue
				}
				name := string(c.flaw)
				if name == "" {
					name = "sound"
				}
				t.Run(name, func(t *testing.T) {
					virtually(t, func(t *testing.T, n *memnet.Net) {
						opt := standin.Options{Nodes: 3}
						if c.flaw != "" {
							opt.Flaws = []standin.Flaw{c.flaw}
							wanted++
						}
						a, _ := observatory(t, n, opt, names)
						_, msgs := a.Workspace.Document()
						require.Empty(t, msgs)
						_, res := swept(t, a)
						got, want := []string{}, map[string]bool{}
						for _, w := range c.want {
							want[names.text(w)] = true
						}
						for _, f := range res.Findings {
							got = append(got, string(f.Kind)+" "+f.Where())
							if !want[string(f.Kind)+" "+f.Where()] {
								alarms++
								t.Errorf("false alarm: %s %s by %v: %s", f.Kind, f.Where(), f.Callers, f.Reason)
							}
							assert.NotEqual(t, finding.NotSure, f.Confidence, f.Reason)
						}
						// Which calls meet which node is by chance, and with that whether any is refused.
						if names == nil && c.flaw != standin.CountedPerNode {
							golden(t, "stand-in "+name, res.Findings)
						}
						slices.Sort(got)
						if assert.Equal(t, append([]string{}, slices.Sorted(maps.Keys(want))...),
							slices.Compact(got)) && c.flaw != "" {
							found++
						}
					})
				})
			}
			for _, c := range detectedAlone {
				if !drawn(draw, string(c.flaw), label) {
					continue
				}
				t.Run(string(c.flaw), func(t *testing.T) {
					for _, flaws := range [][]standin.Flaw{{c.flaw}, nil} {
						virtually(t, func(t *testing.T, n *memnet.Net) {
							a, s := observatory(t, n, standin.Options{Nodes: 3, Flaws: flaws, Longest: c.longest,
								ShortestIdle: c.idle}, names)
							got := c.find(t, a, s, names)
							switch {
							case flaws == nil && got != "":
								alarms++
								t.Errorf("false alarm: %s", got)
							case flaws != nil:
								wanted++
								if assert.Equal(t, c.want, got) {
									found++
								}
							}
						})
					}
				})
			}
			fmt.Printf("%s: detected %d of %d, false alarms %d\n", label, found, wanted, alarms)
		})
	}
}

// drawnFlaws is about how many flaws a draw tries.
const drawnFlaws = 8

// drawn says whether a draw has a flaw, as it ships or renamed; the sound service is
// always in it.
func drawn(draw, flaw, label string) bool {
	if draw == "" || flaw == "" {
		return true
	}
	h := fnv.New32a()
	_, _ = io.WriteString(h, draw+" "+flaw) // a hash takes everything
	all := uint32(len(detection) + len(detectedAlone))
	k := h.Sum32() % all
	return k < drawnFlaws && (h.Sum32()/all%2 == 0) == (label == "renamed")
}

// All flaws at once: none hides another, but where one opens the same route
// altogether.
func TestAllFlawsTogether(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long; make test and make soak have it")
	}
	want := map[string]bool{}
	var all []standin.Flaw
	for _, c := range detection {
		if c.flaw == "" {
			continue
		}
		all = append(all, c.flaw)
		for _, w := range c.want {
			want[w] = true
		}
	}
	got := map[string]bool{}
	virtually(t, func(t *testing.T, n *memnet.Net) {
		a, _ := observatory(t, n, standin.Options{Flaws: all, Nodes: 3}, nil)
		_, res := swept(t, a)
		for _, f := range res.Findings {
			got[string(f.Kind)+" "+f.Where()] = true
		}
	})
	// Deleting a frame is carried out for everybody, so the stranger is part of
	// that finding.
	delete(want, "P DELETE /v1/frames/{frame_id}")
	// Drafts of proposals are read by anyone, so the stranger is part of that finding.
	delete(want, "P GET /v1/proposals/{proposal_id}")
	// A policy that mirrors any origin permits the staff's too.
	delete(want, "R "+atAll)
	// Where a logout ends nothing it ends no other session, and what cannot sign in is not confirmed.
	delete(want, "R "+behind)
	delete(want, "R GET id:/v1/session/email/confirm")
	// What cannot be read is answered before anybody is let in or turned away.
	delete(want, "L POST /v1/cutouts")
	// A missing key is answered 400 there whatever the body is, and a token that does not verify is let in,
	// so that nobody who shows one is a stranger.
	delete(want, "L the guard of partner-key")
	delete(want, "R quota cutouts")
	delete(want, "R quota general")
	// Where three nodes count alone, some drills end before anything is refused.
	for _, q := range []string{"login", "message", "issuer", "general", "cutouts", "partner", "dome"} {
		delete(want, "W quota "+q)
	}
	for w := range want {
		assert.True(t, got[w], "not found: %s", w)
	}
}
