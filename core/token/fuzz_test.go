package token

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"
)

// Nothing that is thrown at it makes it panic or work without bound, and what
// it calls well formed encoding/json reads too.
func FuzzDecodeAndJudge(f *testing.F) {
	k := signer(f, ec, "k1")
	s, _ := k.Mint(rand.Reader, "at+jwt", claims())
	f.Add(s)
	f.Add("Bearer " + s + "=")
	f.Add(`{"payload":"e30","protected":"e30","signature":""}`)
	f.Add("e30.e30.e30.e30.e30")
	f.Add(encode([]byte(`{"alg":"HS256","crit":[1],"kid":"/"}`)) + "." +
		encode([]byte(`{"exp":1e400,"nbf":-1,"iat":"2020-01-01T00:00:00Z","aud":[[]],"roles":{"a":[]}}`)) + ".AA")
	x := context(f)
	x.Keys.Secret = []byte("secret")
	f.Fuzz(func(t *testing.T, text string) {
		tok := Decode(text)
		for _, o := range []Object{tok.Header, tok.Claims} {
			valid := json.Valid(o.Text) && bytes.HasPrefix(bytes.TrimLeft(o.Text, " \t\r\n"), []byte("{"))
			deep := bytes.Count(o.Text, []byte("["))+bytes.Count(o.Text, []byte("{")) >= maxDepth
			if o.OK && !valid || !o.OK && valid && !deep && utf8.Valid(o.Text) {
				t.Fatalf("%q: called an object %v, and is one %v", o.Text, o.OK, valid)
			}
		}
		list := Judge(tok, x)
		for _, j := range list {
			if j.ID == "" || strings.Contains(j.Text, "%!") {
				t.Fatalf("%+v", j)
			}
		}
		if tok.Kind == Signed && OutcomeOf(list) == Takes {
			verified(t, tok, x)
		}
		Reach(x.Doc, SchemeOf(x.Doc, tok, values), tok, Holder(x.Doc, tok))
		b := &Breaker{Rand: rand.Reader, Role: "operator", Claim: "/roles"}
		_, _ = b.Break(tok, Raised)
		_, _ = b.Break(tok, UnsignedCase)
	})
}

// verified fails where another implementation does not verify what is taken.
func verified(t *testing.T, tok *Token, x Context) {
	t.Helper()
	all := []jose.SignatureAlgorithm{jose.HS256, jose.HS384, jose.HS512, jose.RS256, jose.RS384, jose.RS512, jose.PS256,
		jose.PS384, jose.PS512, jose.ES256, jose.ES384, jose.ES512, jose.EdDSA}
	sig, err := jose.ParseSignedCompact(tok.Raw, all)
	require.NoError(t, err, tok.Raw)
	for _, k := range x.Keys.Set {
		if _, err := sig.Verify(k); err == nil {
			return
		}
	}
	_, err = sig.Verify(x.Keys.Secret)
	require.NoError(t, err, tok.Raw)
}

// The goal: judging reaches 80 % of the rate of the bare signature check, on
// all cores.
func BenchmarkJudge(b *testing.B) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(b, err)
	for _, c := range []struct {
		name string
		key  any
	}{{"ES256", ec}, {"RS256", rsaKey}} {
		k := signer(b, c.key, "k1")
		s, err := k.Mint(rand.Reader, "at+jwt", claims())
		require.NoError(b, err)
		x := context(b)
		x.Keys = k.Public()
		tok := Decode(s)
		a := algorithms[c.name]
		h := a.hash.New()
		h.Write([]byte(tok.Signed))
		sum := h.Sum(nil)
		// In turn, so that whatever else the machine does slows both alike.
		b.Run(c.name, func(b *testing.B) {
			const burst = 256
			var bare, judged time.Duration
			each := func(f func() bool) time.Duration {
				from := time.Now()
				var all sync.WaitGroup
				for range runtime.GOMAXPROCS(0) {
					all.Go(func() {
						for range burst {
							if !f() {
								b.Fail()
							}
						}
					})
				}
				all.Wait()
				return time.Since(from)
			}
			for b.Loop() {
				bare += each(func() bool { return a.verify(x.Keys.Set[0].Key, tok.Signed, sum, tok.Signature) })
				judged += each(func() bool { return len(Judge(Decode(s), x)) == 0 })
			}
			n := float64(b.N * burst * runtime.GOMAXPROCS(0))
			b.ReportMetric(n/bare.Seconds(), "bare/s")
			b.ReportMetric(n/judged.Seconds(), "judged/s")
			b.ReportMetric(100*bare.Seconds()/judged.Seconds(), "%-of-bare")
		})
	}
}
