package finding

// Verdict is what is said of a probe: the worst of its gaps, or that it agrees, or that
// nothing is known.
type Verdict struct {
	Kind       Kind
	Confidence Confidence
	Reason     string
	Gaps       []Gap
	Does       string // what was seen, as the lens of the probe's cell shows it; "" without
}

// Gap is one way in which what was seen departs from what is declared.
type Gap struct {
	Row        *Row
	What       string // the name behind a cause that ends in a space
	Rung       int    // of the ladder, that should have stopped it; 0 without
	Reason     string
	Confidence Confidence
	// Scope is where one mend would be; the zero one is the route of the probe. Wide is where it
	// would be if the cause shows at several routes; the zero one: at each of them.
	Scope, Wide Scope
	// Aside: it was asked for in a way in which callers do not ask, so that what others show at
	// its route does not come from it.
	Aside bool
	Who   string // the caller in words where the gap names it otherwise than its probe; "" as there
}

// Cause is its cause, with the name behind it.
func (g Gap) Cause() string { return g.Row.Cause + g.What }

// Worst makes the worst of the gaps the verdict.
func (v *Verdict) Worst() {
	for _, g := range v.Gaps {
		if !v.Kind.IsGap() || Worse(g.Row.Kind, v.Kind) {
			v.Kind, v.Confidence, v.Reason = g.Row.Kind, g.Confidence, g.Reason
		}
	}
}
