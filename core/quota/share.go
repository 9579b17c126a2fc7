package quota

// Share is what one of so many senders keeps to, so that all of them together keep to the stack, at whatever
// moments they send: within any interval they begin no more calls than it admits. Where it admits fewer calls at
// once than there are senders, each still begins with one; from then on they keep to it as well.
//
// Windows become sliding ones: those of several senders do not begin together. What runs at the same time is not
// shared, and nothing waits in a queue. The stack is one that is declared: two counters, which some services
// have in place of a sliding window, may refuse a call of what it would admit.
func (s Stack) Share(senders int) Stack {
	of := int64(senders)
	out := make(Stack, 0, len(s))
	for _, l := range s {
		l.Queue, l.Timeout = 0, 0
		switch {
		case of <= 1 || l.Kind == Concurrent || l.N < 1 || l.W < 1:
		case l.Kind == Bucket:
			l.W, l.N, l.Burst = ceilDiv(mul(l.W, of), l.N), 1, max(1, l.Burst/of)
		case l.N < of:
			l = Limit{Kind: SlidingLog, N: 1, W: ceilDiv(mul(l.W, of), l.N), CountAll: l.CountAll}
		default:
			l = Limit{Kind: SlidingLog, N: l.N / of, W: l.W, CountAll: l.CountAll}
		}
		out = append(out, l)
	}
	return out
}
