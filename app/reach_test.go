package app

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"millgate/app/coverage"
	"millgate/core/declaration"
	"millgate/core/finding"
)

// certified makes a certificate that signs itself, and its key, as PEM.
func certified(t *testing.T, name string) (cert, key []byte) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, IsCA: true,
		BasicConstraintsValid: true, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
	require.NoError(t, err)
	b, err := x509.MarshalPKCS8PrivateKey(k)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: b})
}

// A service behind a private authority that asks for a certificate and for a field of each
// request, and speaks HTTP/2: it is swept once everything is declared, and otherwise the sweep
// says what is missing and is none to build on.
func TestHowATargetIsReached(t *testing.T) {
	cert, key := certified(t, "millgate")
	v := &villager{count: map[string]int{}}
	var other atomic.Int64
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ProtoMajor != 2 || r.Header.Get("X-Site") != "north" || r.Header.Get("X-Door") != "door-secret-9" {
			other.Add(1)
			w.WriteHeader(http.StatusMisdirectedRequest)
			return
		}
		v.ServeHTTP(w, r)
	}))
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(cert))
	s.TLS = &tls.Config{ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: pool}
	s.EnableHTTP2 = true
	s.Config.ErrorLog = log.New(io.Discard, "", 0)
	s.StartTLS()
	defer s.Close()
	files := map[string][]byte{"client.pem": cert, "key.pem": key,
		"ca.pem": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw})}
	t.Setenv("DOOR", "door-secret-9")
	const all = "ca: ca.pem, client: { cert: client.pem, key: file:key.pem }, headers: { X-Site: north, X-Door: " +
		"env:DOOR }, "
	for _, c := range []struct {
		name, words string
		code        int
		refused     string // before anything is sent
		says        string
	}{
		{name: "all of it", words: all},
		{name: "no authority", words: strings.Replace(all, "ca: ca.pem, ", "", 1), code: 3, says: "`ca` of the target"},
		{name: "no certificate", words: strings.Replace(all,
			"client: { cert: client.pem, key: file:key.pem }, ", "", 1),
			code: 3, says: "`client` of the target"},
		{name: "no such authority", words: strings.Replace(all, "ca.pem", "caa.pem", 1),
			refused: "`ca` of target t: caa.pem: there is no such file beside the declaration"},
		{name: "no PEM", words: strings.Replace(all, "ca.pem", "x.gate.yaml", 1),
			refused: "holds no certificate in PEM"},
		{name: "another key", words: strings.Replace(all, "file:key.pem", "env:DOOR", 1),
			refused: "do not go together"},
		{name: "no such secret", words: strings.Replace(all, "env:DOOR", "env:DOOOR", 1),
			refused: "`headers` of target t: X-Door: the environment variable DOOOR is not set"},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			for name, b := range files {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), b, 0o600))
			}
			text := strings.NewReplacer("millgate: 1\n", "millgate: 1.1\n", "{ t: { ",
				"{ t: { "+c.words).Replace(village)
			file := filepath.Join(dir, "x.gate.yaml")
			require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, text, s.URL), 0o600))
			a, err := Open(t.Context(), "", file)
			require.NoError(t, err)
			defer func() { assert.NoError(t, a.Close()) }()
			_, msgs := a.Workspace.Document()
			require.False(t, declaration.Failed(msgs), "%v", msgs)
			other.Store(0)
			r, err := a.Sweeps.Start(t.Context(), "t", "")
			if c.refused != "" {
				require.ErrorContains(t, err, c.refused)
				return
			}
			require.NoError(t, err)
			a.Sweeps.Wait(r.ID)
			run, res, err := a.Sweeps.Result(t.Context(), r.ID)
			require.NoError(t, err)
			doubts := fmt.Sprint(res.Doubts(run, coverage.DefaultMostUnproven))
			assert.Equal(t, c.code, res.Code(run, coverage.DefaultMostUnproven,
				finding.FailOn{Least: "high"}.Stops), doubts)
			assert.Zero(t, other.Load(), "by HTTP/2, with all fields")
			assert.Contains(t, doubts, c.says)
			if c.code == 0 {
				assert.Empty(t, res.Findings)
			}
		})
	}
}

// A mounted secret is its owner's alone.
func TestMountedSecrets(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "x.gate.yaml")
	require.NoError(t, os.WriteFile(file, []byte("millgate: 1.1\n"), 0o600))
	a, err := Open(t.Context(), "", file)
	require.NoError(t, err)
	defer func() { assert.NoError(t, a.Close()) }()
	for _, c := range []struct {
		name, text string
		mode       os.FileMode
		want, says string
	}{
		{"own", "s3cret\n", 0o600, "s3cret", ""},
		{"its group reads", "s3cret\r\n", 0o440, "s3cret", ""},
		{"two lines", "a\nb\n\n", 0o400, "a\nb\n", ""},
		{"everybody reads", "s3cret", 0o644, "", "mode 0644"},
		{"its group writes", "s3cret", 0o660, "", "mode 0660"},
		{"nothing", "\n", 0o600, "", "is empty"},
		{"large", strings.Repeat("x", 70_000), 0o600, "", "70000 bytes"},
	} {
		at := filepath.Join(dir, c.name)
		require.NoError(t, os.WriteFile(at, []byte(c.text), 0o600))
		require.NoError(t, os.Chmod(at, c.mode))
		for _, path := range []string{c.name, at} {
			got, err := a.Workspace.Secret(t.Context(), declaration.Value{File: path})
			assert.Equal(t, c.want, got, c.name)
			if c.says != "" {
				assert.ErrorContains(t, err, c.says, c.name)
				assert.NotContains(t, err.Error(), "s3cret")
			} else {
				assert.NoError(t, err, c.name)
			}
		}
	}
	for path, says := range map[string]string{"nowhere": "there is no file", dir: "is no file"} {
		_, err := a.Workspace.Secret(t.Context(), declaration.Value{File: path})
		assert.ErrorContains(t, err, says)
	}
}
