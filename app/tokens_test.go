package app

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/events"
	"millgate/app/fault"
	"millgate/app/tokens"
	"millgate/app/view"
	"millgate/app/workspace"
	"millgate/core/token"
	"millgate/standin"
)

func has(list []token.Judgement, id string) bool {
	for _, j := range list {
		if j.ID == id {
			return true
		}
	}
	return false
}

// A token is taken from the service, verified with its key set, and followed
// to the routes that it opens; its text never comes back.
func TestJudgeAnObtainedToken(t *testing.T) {
	a := opened(t, listen(t, standin.Options{}), nil, "")
	v, err := a.Tokens.JudgeToken(context.Background(), tokens.Query{Obtain: true, Identity: "sanna"})
	require.NoError(t, err)
	assert.Empty(t, v.Judgements)
	assert.Equal(t, token.Takes, v.Outcome)
	assert.Equal(t, "access", v.Scheme)
	assert.Equal(t, "sanna", v.Identity)
	assert.Equal(t, "id:/.well-known/jwks.json", v.KeySource)
	assert.Equal(t, 15*time.Minute, v.Axis.Ends.Sub(v.Axis.Issued))
	assert.True(t, v.Axis.AfterlifeSaid)
	opens := map[string]token.Opens{}
	for _, o := range v.Reach {
		opens[o.Route] = o
	}
	assert.True(t, opens["POST /v1/dome/slew"].Granted)
	assert.NotContains(t, opens, "PUT /v1/people/{person_id}/roles")
	b, err := json.Marshal(v)
	require.NoError(t, err)
	assert.NotContains(t, string(b), "eyJhbGciOi")

	_, err = a.Tokens.JudgeToken(context.Background(), tokens.Query{Obtain: true, Identity: "lanternfish"})
	require.ErrorContains(t, err, "no bearer credential")
	_, err = a.Tokens.JudgeToken(context.Background(), tokens.Query{Text: " \n"})
	require.ErrorIs(t, err, fault.ErrInput)
	_, err = a.Tokens.JudgeToken(context.Background(), tokens.Query{Text: "x", Target: "nowhere"})
	require.ErrorIs(t, err, fault.ErrNotFound)
}

func TestLongLivedTokensAreFound(t *testing.T) {
	a := opened(t, listen(t, standin.Options{Flaws: []standin.Flaw{standin.LongLife}}), nil, "")
	v, err := a.Tokens.JudgeToken(context.Background(), tokens.Query{Obtain: true, Identity: "imre"})
	require.NoError(t, err)
	assert.True(t, has(v.Judgements, "too-long"))
}

func TestKeptTokens(t *testing.T) {
	data := t.TempDir()
	a, err := Open(t.Context(), data, "../examples/fernhollow/fernhollow.gate.yaml")
	require.NoError(t, err)
	defer func() { assert.NoError(t, a.Close()) }()
	require.NoError(t, workspace.KeepSecret(t.Context(), data, "OTHER", "x"))
	require.NoError(t, a.Tokens.KeepToken(t.Context(), "of imre", "Bearer eyJhbGciOiJub25lIn0.eyJzdWIiOiJpbXJlIn0."))
	names, err := a.Tokens.KeptTokens(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"of imre"}, names, "other secrets are no tokens")
	v, err := a.Tokens.JudgeToken(context.Background(), tokens.Query{Kept: "of imre"})
	require.NoError(t, err)
	assert.Equal(t, "imre", v.Subject)
	require.NoError(t, a.Tokens.ForgetToken(t.Context(), "of imre"))
	require.ErrorIs(t, a.Tokens.ForgetToken(t.Context(), "of imre"), fault.ErrNotFound)
	_, err = a.Tokens.JudgeToken(context.Background(), tokens.Query{Kept: "of imre"})
	require.ErrorIs(t, err, fault.ErrNotFound)
	for _, bad := range [][2]string{{"", "x"}, {"n", " "}, {strings.Repeat("n", 99), "x"}} {
		require.ErrorIs(t, a.Tokens.KeepToken(t.Context(), bad[0], bad[1]), fault.ErrInput)
	}
}

func TestMintedTokensAreSound(t *testing.T) {
	a, err := Open(t.Context(), "", "../examples/fernhollow/fernhollow.gate.yaml")
	require.NoError(t, err)
	defer func() { assert.NoError(t, a.Close()) }()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	jwk, err := json.Marshal(jose.JSONWebKey{Key: key, KeyID: "t1"})
	require.NoError(t, err)
	m, err := a.Tokens.MintToken(t.Context(), tokens.MintQuery{Identity: "imre", Key: string(jwk)})
	require.NoError(t, err)
	s := m.Token
	assert.Equal(t, "Authorization: Bearer "+s, m.Header)
	assert.Regexp(t, `^curl -sS -i \\\n  -H 'Authorization: Bearer \S+' \\\n  'http://\S+/v1/\S+'$`, m.Curl)
	assert.Empty(t, m.Warns)
	d, _ := a.Workspace.Document()
	k, _, err := token.ReadKeys(jwk)
	require.NoError(t, err)
	list := token.Judge(token.Decode(s), token.Context{Now: time.Now(), Doc: d, Scheme: d.SchemeNamed("access"),
		Identity: d.IdentityNamed("imre"), Values: d.Targets[0].Values, Keys: k})
	assert.Empty(t, list, "what is minted is as the declaration says")
	for want, q := range map[string]tokens.MintQuery{
		"no identity":                       {Identity: "zed", Key: string(jwk)},
		"no scheme with":                    {Identity: "lanternfish", Key: string(jwk)},
		"neither a JWK":                     {Identity: "imre", Key: "word"},
		"FERNHOLLOW_SIGNING_KEY is not set": {Identity: "imre"},
	} {
		_, err := a.Tokens.MintToken(t.Context(), q)
		require.ErrorContains(t, err, want)
	}
}

// Any life and any claim, and what is unwise about it.
func TestMintedTokensAsAsked(t *testing.T) {
	t.Setenv("VILLAGE_KEY", "the-secret-of-the-village-0123456789")
	a, err := openFile(t, strings.NewReplacer("%s", "http://127.0.0.1:1", "keys: {",
		"signing_key: env:VILLAGE_KEY, typ: village+jwt, keys: {",
		"millgate: 1\n", "millgate: 1.1\n").Replace(signed), t.TempDir())
	require.NoError(t, err)
	defer func() { assert.NoError(t, a.Close()) }()
	for claims, want := range map[string]string{
		"": "", `{"plan": {"tier": 9007199254740993}, "sub": null}`: "", `{"exp": null}`: "It never ends",
		`{"exp": 99999999999}`: "at most 15 min is declared",
	} {
		set, err := tokens.ReadClaims(claims)
		require.NoError(t, err)
		m, err := a.Tokens.MintToken(t.Context(), tokens.MintQuery{Identity: "ann", Set: set})
		require.NoError(t, err)
		assert.Contains(t, m.Warns, want)
		assert.Equal(t, want == "", m.Warns == "", m.Warns)
		tok := token.Decode(m.Token)
		typ, _ := tok.Header.String("typ")
		assert.Equal(t, "village+jwt", typ, "as the scheme says")
		if strings.Contains(claims, "tier") {
			raw, err := base64.RawURLEncoding.DecodeString(strings.Split(m.Token, ".")[1])
			require.NoError(t, err)
			assert.Contains(t, string(raw), "9007199254740993", "no digit is lost")
			assert.NotContains(t, string(raw), `"sub"`)
		}
	}
	m, err := a.Tokens.MintToken(t.Context(), tokens.MintQuery{Identity: "ann", Life: 400 * 24 * time.Hour})
	require.NoError(t, err)
	assert.Contains(t, m.Warns, "at most 15 min is declared")
	for bad, want := range map[string]string{`{"a": }`: "line 1, column 7",
		"{\n\"a\": 1": "line 2, column 6: it ends in the middle", "[1]": "claims, line",
		"null": "no object", `{} {}`: "more behind", "nonsense": "line 1, column 2"} {
		_, err := tokens.ReadClaims(bad)
		require.ErrorIs(t, err, fault.ErrInput, bad)
		require.ErrorContains(t, err, want)
	}
}

func TestGuessSecret(t *testing.T) {
	k, err := token.ReadSigningKey([]byte("under the ridge"), []string{"HS256"})
	require.NoError(t, err)
	s, err := k.Mint(rand.Reader, "JWT", map[string]any{"sub": "x"})
	require.NoError(t, err)
	var words strings.Builder
	for i := range 60000 {
		fmt.Fprintf(&words, "word%d\r\n", i)
	}
	var most int64
	_, ok, err := tokens.GuessSecret(context.Background(), s, strings.NewReader(words.String()), nil)
	require.NoError(t, err)
	assert.False(t, ok)
	// Wherever it stands, also across the pieces that the cores take.
	for _, at := range []int{0, 64<<10 - 5, 64 << 10, words.Len()} {
		text := words.String()
		if i := strings.LastIndexByte(text[:at], '\n'); i >= 0 {
			at = i + 1
		} else {
			at = 0
		}
		w, ok, err := tokens.GuessSecret(context.Background(), s,
			strings.NewReader(text[:at]+"under the ridge\n"+text[at:]),
			func(n int64) {
				assert.Greater(t, n, most, "it goes on")
				most = n
			})
		most = 0
		require.NoError(t, err)
		assert.True(t, ok, at)
		assert.Equal(t, "under the ridge", w)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, _, err = tokens.GuessSecret(ctx, s, strings.NewReader(words.String()), nil)
	require.ErrorIs(t, err, context.Canceled)
	_, _, err = tokens.GuessSecret(context.Background(), "opaque", strings.NewReader("x"), nil)
	require.ErrorIs(t, err, fault.ErrInput)
}

func TestAuditIsStoppedAndTold(t *testing.T) {
	a, err := Open(t.Context(), "", "../examples/fernhollow/fernhollow.gate.yaml")
	require.NoError(t, err)
	defer func() { assert.NoError(t, a.Close()) }()
	k, err := token.ReadSigningKey([]byte("secret"), []string{"HS256"})
	require.NoError(t, err)
	var b strings.Builder
	for i := range 2000 {
		s, err := k.Mint(rand.Reader, "JWT", map[string]any{"sub": "imre", "n": i})
		require.NoError(t, err)
		b.WriteString(s + "\n")
	}
	var p events.AuditProgress
	r, err := a.Tokens.AuditTokens(context.Background(), "", true, strings.NewReader(b.String()),
		tokens.Watch{Progress: func(x events.AuditProgress) { p = x }})
	require.NoError(t, err)
	assert.Equal(t, 2000, r.Distinct)
	assert.Equal(t, 2000, p.Tokens)
	assert.Equal(t, int64(b.Len()), p.Bytes)
	assert.Equal(t, "secret-guessed", r.Tallies[0].ID, "a common secret is found once for all tokens of an issuer")
	assert.Equal(t, 2000, r.Tallies[0].Count)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	r, err = a.Tokens.AuditTokens(ctx, "", true, strings.NewReader(b.String()), tokens.Watch{})
	require.ErrorIs(t, err, context.Canceled)
	assert.Less(t, r.Tokens, 2000)
}

func TestDeclaredSessions(t *testing.T) {
	a, err := Open(t.Context(), "", "../examples/fernhollow/fernhollow.gate.yaml")
	require.NoError(t, err)
	defer func() { assert.NoError(t, a.Close()) }()
	list, err := a.View.Sessions(t.Context(), "", "", 1200)
	require.NoError(t, err)
	of := map[string]view.Declared{}
	for _, s := range list {
		of[s.Scheme] = s
	}
	assert.Len(t, of, 5, "those with a lifetime")
	assert.True(t, of["access"].Noticed)
	assert.Equal(t, 310, of["access"].Size)
	assert.Positive(t, of["access"].Place.Line)
	assert.Equal(t, 30*time.Minute, of["console"].Idle)
	for _, bad := range []float64{-1, 1e12} {
		_, err := a.View.Sessions(t.Context(), "", "", bad)
		require.ErrorIs(t, err, fault.ErrInput)
	}
}

// Many cores find what one finds, in the order of the lines; what was stopped keeps what
// was counted until then.
func TestAnAuditOnManyCores(t *testing.T) {
	a, err := Open(t.Context(), "", "../examples/fernhollow/fernhollow.gate.yaml")
	require.NoError(t, err)
	defer func() { assert.NoError(t, a.Close()) }()
	d, _ := a.Workspace.Document()
	file := filepath.Join(t.TempDir(), "tokens.txt")
	mint(t, file, 3*tokens.Batch+7)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	for i := range lines {
		switch i % 5 {
		case 1:
			lines[i] = lines[i/2] // again
		case 2:
			lines[i] = lines[i][:len(lines[i])-20]
		case 3:
			lines[i] = fmt.Sprintf("opaque-%d", i%40)
		}
	}
	c := token.Context{Now: time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC), Doc: d}
	one := token.NewAuditor(c)
	for i, l := range lines {
		one.Add(i+1, l)
	}
	got, err := tokens.AuditStream(context.Background(), c, strings.NewReader(strings.Join(lines, "\n")),
		tokens.Watch{})
	require.NoError(t, err)
	assert.Equal(t, one.Report(), got)
	assert.Equal(t, len(lines), got.Tokens)

	ctx, cancel := context.WithCancel(context.Background())
	r, w := io.Pipe()
	defer w.Close() //nolint:errcheck // nobody reads it any more
	go func() {
		_, _ = io.WriteString(w, strings.Join(lines, "\n")+"\n")
		cancel()
		for {
			if _, err := io.WriteString(w, lines[0]+"\n"); err != nil {
				return
			}
		}
	}()
	_, err = tokens.AuditStream(ctx, c, r, tokens.Watch{})
	require.ErrorIs(t, err, context.Canceled)
}
