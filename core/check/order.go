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
