package check

// Stage is something of a request that a service looks at before it answers.
type Stage string

// The stages. Those of the ladder (core/access) are expected in its order; a body is read by the
// handler, behind all of them, and the preflight of a page comes before them: it has no credential
// (Fetch standard, CORS protocol).
const (
	OfPage       Stage = "page"
	OfCredential Stage = "credential"
	OfRole       Stage = "role"
	OfRecord     Stage = "record"
	OfBody       Stage = "body"
	OfQuota      Stage = "quota"
)

// Sequence says which of two stages came first, as it shows from outside: the request failed both,
// and the answer is that of one.
type Sequence struct {
	First, Then Stage
	Says        string // what shows it
}

// Ordering is a family some of whose facts tell in which order a service looks.
type Ordering interface {
	// Order is what a fact tells of that: nothing where the answers do not tell.
	Order(c *Context, p *Probe, f *Fact, e *Evidence) []Sequence
}

// Unlike is an id of the form of another that is hardly anybody's: its last digits are others, or
// where it has none each letter is another of its case. What stands before often says what kind of
// thing it is, or of which version an id is (RFC 9562 section 4). n tells several apart.
func Unlike(id string, n int) string {
	b := []byte(id)
	turn := func(i int, from byte, many, by int) { b[i] = from + byte((int(b[i]-from)+by+n)%many) }
	digits := 0
	for i := len(b) - 1; i >= 0 && digits < lastDigits; i-- {
		if b[i] >= '0' && b[i] <= '9' {
			digits++
			turn(i, '0', 10, 4)
		}
	}
	for i, c := range b {
		switch {
		case digits > 0:
		case c >= 'a' && c <= 'z':
			turn(i, 'a', 26, 9)
		case c >= 'A' && c <= 'Z':
			turn(i, 'A', 26, 9)
		}
	}
	return string(b)
}

// lastDigits are as many as are changed.
const lastDigits = 4
