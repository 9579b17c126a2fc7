package token

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is pasted is mended, and what was mended is said.
func TestDecodeIsLenient(t *testing.T) {
	k := signer(t, ec, "k1")
	s, err := k.Mint(rand.Reader, "at+jwt", claims())
	require.NoError(t, err)
	p := strings.Split(s, ".")
	flat, err := json.Marshal(map[string]string{"protected": p[0], "payload": p[1], "signature": p[2]})
	require.NoError(t, err)
	pad := func(x string) string { return x + strings.Repeat("=", (4-len(x)%4)%4) }
	for text, want := range map[string]string{
		s:                                        "",
		" Bearer " + s + "\n":                    "form-prefix",
		"Authorization: Bearer " + s:             "form-prefix form-prefix",
		`"` + s + `",`:                           "form-quotes",
		s[:40] + "\n  " + s[40:]:                 "form-wrapped",
		strings.ReplaceAll(s, ".", "%2E"):        "form-escaped",
		string(flat):                             "form-serialisation",
		`{"access_token":"` + s + `"}`:           "form-prefix",
		"https://x/?access_token=" + s + "&x=1":  "form-prefix",
		pad(p[0]) + "." + p[1] + "." + pad(p[2]): "form-padding",
		s + ".e30":                               "form-parts",
	} {
		tok := Decode(text)
		require.Equal(t, Signed, tok.Kind, text)
		got := ids(Judge(tok, context(t)))
		if want == "form-padding" {
			assert.Subset(t, got, []string{want}, text)
		} else {
			assert.Equal(t, strings.Fields(want), got, text)
		}
	}
	b64 := func(x string) string { return base64.RawURLEncoding.EncodeToString([]byte(x)) }
	for text, want := range map[string]string{
		p[0] + "." + p[1]:                                                "form-parts",
		p[0] + "." + p[1] + ".!!!!":                                      "form-base64",
		p[0] + "." + b64("[1]") + "." + p[2]:                             "form-json",
		p[0] + "." + b64(`{"a":1,}`) + "." + "":                          "form-json",
		p[0] + "." + b64(`{"sub":"a","iss":"x","sub":"b"}`) + "." + p[2]: "form-duplicate",
		p[0] + "." + b64(`{"x":{"sub":"a","sub":"b"}}`) + "." + p[2]:     "form-duplicate",
		b64(`{"alg":"ES256"`) + "." + p[1] + "." + p[2]:                  "form-json",
		"ab.cd.ef":                 "form-jwt-wanted",
		"5f2c0000":                 "form-jwt-wanted",
		"":                         "form-empty",
		"  ":                       "form-empty",
		strings.Repeat("x", 1<<17): "form-size",
		b64(strings.Repeat("[", 1<<14)) + "." + b64(strings.Repeat(`{"a":`, 1<<12)) + ".x": "form-jwt-wanted",
	} {
		assert.Contains(t, ids(Judge(Decode(text), context(t))), want, "%.60q", text)
	}
	tok := Decode(p[0] + "." + b64(`{"sub":"a","iss":"x","sub":"b"}`) + ".AA")
	v, _ := tok.Claims.String("sub")
	assert.Equal(t, "b", v, "the last one, as most readers take it")
}
