package app

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"millgate/core/token"
)

// The goal: a million different HS256 tokens are audited in less than 200 MB.
func BenchmarkAuditMillion(b *testing.B) {
	const many = 1_000_000
	a, err := Open("", "../examples/fernhollow/fernhollow.gate.yaml")
	require.NoError(b, err)
	defer a.Close() //nolint:errcheck // it is in memory
	k, err := token.ReadSigningKey([]byte("a secret of the benchmark that is long enough"), []string{"HS256"})
	require.NoError(b, err)
	for b.Loop() {
		r, w := io.Pipe()
		go func() {
			for i := range many {
				s, err := k.Mint(rand.Reader, "at+jwt", map[string]any{"iss": "http://127.0.0.1:7402", "aud": "fernhollow", "sub": "imre", "jti": i, "iat": 1, "exp": 900, "roles": []string{"observer"}})
				if err == nil {
					_, err = fmt.Fprintln(w, s)
				}
				if err != nil {
					w.CloseWithError(err)
					return
				}
			}
			w.Close()
		}()
		var peak uint64
		begun := time.Now()
		res, err := a.AuditTokens(context.Background(), "", true, r, func(AuditProgress) {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			peak = max(peak, m.Sys-m.HeapReleased)
		})
		require.NoError(b, err)
		require.Equal(b, many, res.Distinct)
		b.ReportMetric(float64(peak)/1e6, "MB-peak")
		b.ReportMetric(many/time.Since(begun).Seconds(), "tokens/s")
	}
}
