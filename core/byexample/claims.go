package byexample

import "millgate/core/token"

// claimed are the roles and the scopes that a token says of its holder, where it says them first.
func claimed(text string) (roles, scopes []string) {
	for _, r := range token.Decode(text).Rights() {
		switch {
		case r.What == "roles" && roles == nil:
			roles = r.Names
		case r.What == "scopes" && scopes == nil:
			scopes = r.Names
		}
	}
	return roles, scopes
}
