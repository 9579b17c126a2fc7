package madeup

import (
	"slices"

	"millgate/core/personal"
)

// secretWords are those by which the name of a member says that its value is a secret. They decide as whole words, so
// that author and keyboard are none.
var secretWords = []string{"password", "passwd", "passphrase", "passcode", "pwd", "pass", "secret", "secrets", "token",
	"tokens", "key", "apikey", "auth", "authorization", "accesstoken", "refreshtoken", "authtoken", "idtoken",
	"session", "sessionid", "sid", "jsessionid", "phpsessid", "otp", "totp", "pin", "credential", "credentials",
	"signature", "sig", "hmac", "jwt", "cookie", "csrf", "xsrf", "nonce", "verifier", "assertion"}

// before a code or a number these say that it is a secret; alone it is one as well.
var beforeCode = []string{"auth", "authorization", "verification", "verify", "reset", "security", "invite", "recovery",
	"backup", "mfa", "sms", "device", "user", "access", "activation", "confirmation"}

// plainKeys come before a key that is no secret.
var plainKeys = []string{"public", "sort", "primary", "foreign", "partition", "object", "cache", "map", "group", "row",
	"idempotency", "translation", "i18n"}

// SecretName says whether a member or a parameter of a name holds a secret.
func SecretName(name string) bool {
	words := personal.Words(name)
	for i, w := range words {
		before := ""
		if i > 0 {
			before = words[i-1]
		}
		switch {
		case w == "code" && (len(words) == 1 || slices.Contains(beforeCode, before)):
			return true
		case w == "key" && slices.Contains(plainKeys, before):
		case slices.Contains(secretWords, w):
			return true
		}
	}
	return false
}
