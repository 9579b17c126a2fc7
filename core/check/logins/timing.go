package logins

import (
	"fmt"
	"time"

	"millgate/core/check"
)

// Timed is how long logins with a wrong secret took.
type Timed struct {
	Known, Unknown []time.Duration
	Lost           string // why one had no answer that says anything
}

// throttles is the status of a login that was refused for coming too often.
const throttles = 429

// Timing sends pairs of logins with a wrong secret, with the name of an identity and with one
// that nobody has in turn. Its Timed is how long each took. The first pair opens the
// connection and does not count. Each secret and each unknown name is another: what was seen
// before may be answered faster.
func Timing(c *check.Context, identity, scheme string, pairs int) check.Script {
	s, id := c.Doc.SchemeNamed(scheme), c.Doc.IdentityNamed(identity)
	return check.Tell(func(t *check.Telling) {
		m := &Timed{}
		t.Measured(m)
		for i := 0; i <= pairs; i++ {
			for _, unknown := range []bool{false, true} {
				q := check.LoginAs(c, s.Login, id, s.Name, func(secret bool) (check.Fill, bool) {
					switch {
					case secret:
						return check.Fill{Made: fmt.Sprintf("%s-%d-%t", wrong, i, unknown)}, true
					case unknown:
						return check.Fill{Made: fmt.Sprintf("%s-%d", nobody, i)}, true
					}
					return check.Fill{}, false
				})
				r := t.Send(check.Call{Name: "a wrong login", Request: q})[0]
				switch {
				case r.Fate != check.Answered:
					m.Lost = r.Why
				case r.Exchange.Status == throttles:
					m.Lost = fmt.Sprintf("the service throttles logins (429) after %d; wait, and compare again", 2*i)
				}
				if t.Keep(r); m.Lost != "" {
					return
				}
				switch took := r.End - r.Begin; {
				case i == 0:
				case unknown:
					m.Unknown = append(m.Unknown, took)
				default:
					m.Known = append(m.Known, took)
				}
			}
		}
	})
}
