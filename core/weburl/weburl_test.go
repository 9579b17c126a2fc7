package weburl

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOrigin(t *testing.T) {
	for in, want := range map[string]string{
		"https://A.example:443/x?y#z": "https://a.example", "http://a.example:8080": "http://a.example:8080",
		"http://[::1]:80/": "http://[::1]", "HTTP:\\\\0x7f.1": "http://127.0.0.1",
		"http://2130706433": "http://127.0.0.1",
		"https://ä.example": "https://xn--4ca.example", "https://faß.example": "https://xn--fa-hia.example",
		" https://a.example ": "https://a.example", "https://u:p@a.example": "https://a.example",
		"https://a.example.": "https://a.example.", "https://%61.example": "https://a.example",
		"ftp://a": "", "a": "", "/x": "", "http://": "", "http://a b": "", "http://1.2.3.4.5": "", "http://a.1": "",
		"https://xn--.example": "", "https://xn--a.example": "", "https://a:99999": "", "data:text/plain,x": "",
	} {
		assert.Equal(t, want, Origin(in), in)
	}
}

func TestLabelsAsTheyAre(t *testing.T) {
	for in, want := range map[string]string{"http://XN--A.example": "http://xn--a.example/",
		"http://xn--.example/x": "http://xn--.example/x", "http://xn--4ca.example": "http://xn--4ca.example/"} {
		u, err := ParseLabels(in, nil)
		require.NoError(t, err, in)
		assert.Equal(t, want, u.String())
	}
	_, err := ParseLabels("http://xn--a.ä.example", nil)
	assert.Error(t, err, "only what is ASCII alone is taken as it is")
}

func TestLocal(t *testing.T) {
	for in, want := range map[string]bool{"http://localhost": true, "http://A.localhost.": true, "http://127.1": true,
		"http://[::1]": true, "http://10.1.2.3": true, "http://192.168.0.9": true, "http://169.254.1.1": true,
		"http://[fd00::1]": true, "http://93.184.216.34": false, "https://a.example": false,
		"http://localhost.example": false} {
		u, err := Parse(in, nil)
		require.NoError(t, err, in)
		assert.Equal(t, want, Local(u), in)
	}
}
