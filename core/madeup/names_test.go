package madeup

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWordsDecideWhatIsASecret(t *testing.T) {
	for _, name := range []string{"password", "Password", "new_password", "userPassword", "pwd", "access_token",
		"accessToken",
		"X-Api-Key", "apikey", "APIKey", "client_secret", "session", "sessionID", "JSESSIONID", "code", "auth_code",
		"verificationCode", "otp", "pin", "sig", "X-CSRF-Token", "key"} {
		assert.True(t, SecretName(name), name)
	}
	for _, name := range []string{"author", "authors", "keyboard", "monkey", "passenger", "passport_number",
		"tokenizer",
		"postal_code", "countryCode", "zipCode", "status_code", "pinned", "spin", "sorting", "signed_at", "design",
		"public_key", "sortKey", "sessions_count", "codec", "barcode", "secretary", ""} {
		assert.False(t, SecretName(name), name)
	}
}
