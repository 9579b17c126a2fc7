package wire

import (
	"encoding/base64"
	"encoding/json"
	"net/url"
	"regexp"
	"sort"
	"strings"
	"sync"
)

// Masked stands in the place of a secret.
const Masked = "····"

// Masker knows the secrets in use and takes them out of text. It is safe for
// concurrent use.
type Masker struct {
	mu    sync.RWMutex
	known map[string]bool
	list  []string // longest first, so that no part of one stays
}

// NewMasker returns a Masker that knows nothing yet.
func NewMasker() *Masker { return &Masker{known: map[string]bool{}} }

// shortest secret that is replaced inside other text; anything shorter would
// take ordinary words apart.
const shortest = 4

// Learn adds secrets in the forms in which they travel.
func (m *Masker) Learn(secrets ...string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, s := range secrets {
		if len(s) < shortest {
			continue
		}
		forms := []string{s, url.QueryEscape(s), url.PathEscape(s), base64.StdEncoding.EncodeToString([]byte(s)), base64.RawURLEncoding.EncodeToString([]byte(s))}
		if j, err := json.Marshal(s); err == nil {
			forms = append(forms, string(j[1:len(j)-1]))
		}
		for _, f := range forms {
			if !m.known[f] {
				m.known[f] = true
				m.list = append(m.list, f)
			}
		}
	}
	sort.Slice(m.list, func(i, j int) bool { return len(m.list[i]) > len(m.list[j]) })
}

var (
	jwtText = regexp.MustCompile(`eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*\.[A-Za-z0-9_-]*`)
	// Members whose values are secrets whoever sent them.
	members = regexp.MustCompile(`(?i)("(?:access_token|refresh_token|id_token|client_secret|password|passwd|api_?key|secret)"\s*:\s*")((?:[^"\\]|\\.)*)(")`)
	fields  = regexp.MustCompile(`(?i)((?:^|[&?])(?:access_token|refresh_token|id_token|client_secret|password|sig|signature|api_?key)=)([^&\s"'<>\\#;]+)`)
)

// Text returns s without secrets.
func (m *Masker) Text(s string) string {
	if s == "" {
		return s
	}
	m.mu.RLock()
	for _, k := range m.list {
		if strings.Contains(s, k) {
			s = strings.ReplaceAll(s, k, Masked)
		}
	}
	m.mu.RUnlock()
	s = jwtText.ReplaceAllString(s, Masked)
	s = members.ReplaceAllString(s, "${1}"+Masked+"${3}")
	return fields.ReplaceAllString(s, "${1}"+Masked)
}

var secretHeaders = map[string]bool{"authorization": true, "proxy-authorization": true, "cookie": true, "set-cookie": true}

// Headers masks header values; of credentials only the scheme or the name
// stays.
func (m *Masker) Headers(h [][2]string) [][2]string {
	out := make([][2]string, len(h))
	for i, kv := range h {
		v := kv[1]
		if secretHeaders[strings.ToLower(kv[0])] {
			v = maskedCredential(strings.ToLower(kv[0]), v)
		}
		out[i] = [2]string{kv[0], m.Text(v)}
	}
	return out
}

// maskedCredential leaves of a credential what is no secret: the scheme of an
// Authorization, the name and the attributes of a cookie.
func maskedCredential(field, value string) string {
	if strings.HasSuffix(field, "cookie") {
		name, _, _ := strings.Cut(value, "=")
		_, attributes, more := strings.Cut(value, ";")
		if more {
			attributes = ";" + attributes
		}
		return name + "=" + Masked + attributes
	}
	if scheme, _, ok := strings.Cut(value, " "); ok {
		return scheme + " " + Masked
	}
	return Masked
}
