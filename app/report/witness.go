package report

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"millgate/core/access"
	"millgate/format/curl"
)

// Step is a request of a witness.
type Step struct {
	Who     string
	Command string // as package curl writes it
}

// Asked is what a witness asks: a probe, what it was answered, and what is declared.
type Asked struct {
	Control, Probe Step // the control's Command is "" where there is none
	Seen           int
	At             time.Time
	Expected       access.Expectation
}

// variable is a variable of the environment in a command; a $ that is text has a \ before it.
var variable = regexp.MustCompile(`(^|[^\\])\$([A-Z][A-Z0-9_]*)`)

// variables are those of a command, each once.
func variables(commands ...string) (out []string) {
	for _, c := range commands {
		for _, m := range variable.FindAllStringSubmatch(c, -1) {
			if !slices.Contains(out, m[2]) {
				out = append(out, m[2])
			}
		}
	}
	return out
}

// tells are the answers of a probe that say that the gap is there, and that it is gone; ok is false where the
// status does not tell.
func (a Asked) tells() (there, gone string, ok bool) {
	admitted := a.Seen >= 200 && a.Seen < 300
	declared := a.Expected.Status()
	switch {
	case a.Seen == 0:
		return "", "", false
	case admitted && declared != 0:
		gone = "401|403|404"
		if !a.Expected.Plain() {
			gone += fmt.Sprintf("|%d", declared)
		}
		return "2??", gone, true
	case !admitted && declared == 0:
		return fmt.Sprint(a.Seen), "2??", true
	case !admitted && declared != a.Seen:
		return fmt.Sprint(a.Seen), fmt.Sprint(declared), true
	}
	return "", "", false
}

// Witness is a script for a POSIX shell that sends a control and the probe and says whether the gap is still
// there; ok is false where what a status says does not tell.
func (it Item) Witness(a Asked) (script string, ok bool) {
	there, gone, ok := a.tells()
	if !ok {
		return "", false
	}
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	say("#!/bin/sh")
	say("# Witness of %s: %s, %s as %s.", it.ID, line(it.Title), line(it.Evidence[0].Route), line(a.Probe.Who))
	say("# It sends a control, which must be admitted, and the probe, and ends with")
	say("#   1  the gap is still there")
	say("#   0  it is gone: the probe was answered as declared")
	say("#   2  it cannot tell")
	say("set -u")
	for _, s := range []Step{a.Control, a.Probe} { // how each is filled stands in the command's first line
		if how, _, ok := strings.Cut(s.Command, "\n"); ok && strings.HasPrefix(how, "# ") {
			say("%s", how)
		}
	}
	for _, v := range variables(a.Control.Command, a.Probe.Command) {
		say(`: "${%s:?is not set}"`, v)
	}
	status := func(name string, s Step) {
		say("\n# %s\n%s() {", line(s.Who), name)
		for _, l := range strings.Split(curl.Status(s.Command), "\n") {
			say("%s", l)
		}
		say("}")
	}
	if a.Control.Command != "" {
		status("control", a.Control)
	}
	status("probe", a.Probe)
	say("")
	if a.Control.Command != "" {
		say("answered=$(control) || answered=nothing")
		say("case $answered in")
		say("2??) ;;")
		say(`*) echo "cannot tell: the control was answered $answered"; exit 2 ;;`)
		say("esac")
	}
	say("answered=$(probe) || answered=nothing")
	say("case $answered in")
	say(`%s) echo "still there: answered $answered, as on %s"; exit 1 ;;`, there, a.At.UTC().Format(time.DateOnly))
	say(`%s) echo "gone: answered $answered"; exit 0 ;;`, gone)
	say(`*) echo "cannot tell: answered $answered"; exit 2 ;;`)
	say("esac")
	return b.String(), true
}
