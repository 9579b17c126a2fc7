package app

import (
	"testing"
	"testing/synctest"
	"time"

	"millgate/standin"
	"millgate/testkit/memnet"
)

// virtually runs a test in virtual time against a network in memory: what waits
// for minutes takes none, and the order of events does not hang on the machine.
func virtually(t *testing.T, test func(t *testing.T, n *memnet.Net)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		// Its clock begins in 2000; what ships with dates is made for later. It is no
		// full second, on which windows of the clock begin.
		time.Sleep(time.Until(time.Date(2026, 12, 1, 9, 0, 0, 731e6, time.UTC)))
		test(t, memnet.New())
	})
}

// observatory is a stand-in on a network in memory, with a workspace for it.
func observatory(t *testing.T, n *memnet.Net, opt standin.Options, names renaming) (*App, *standin.Running) {
	t.Helper()
	opt.Listen, opt.Names = n.Listen, names
	s := listen(t, opt)
	a := opened(t, s, names, "")
	a.Workspace.Dial = n.Dial
	return a, s
}
