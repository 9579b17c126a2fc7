package report

import (
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"
)

// The elements of JUnit's XML that tools read.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name      string      `xml:"name,attr"`
		Tests     int         `xml:"tests,attr"`
		Failures  int         `xml:"failures,attr"`
		Skipped   int         `xml:"skipped,attr"`
		Timestamp string      `xml:"timestamp,attr"`
		Cases     []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string        `xml:"name,attr"`
		Class   string        `xml:"classname,attr"`
		Failure *junitFailure `xml:"failure,omitempty"`
		Skipped *junitSkipped `xml:"skipped,omitempty"`
		Out     string        `xml:"system-out,omitempty"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
	junitSkipped struct {
		Message string `xml:"message,attr"`
	}
)

// together is the suite of findings that one mend would end at several routes, or that are at none of the inventory.
const together = "beyond one route"

// JUnit writes a case for each route, and for each finding that is not one route's. One fails that has a finding
// for which a pipeline stops, and a route is skipped where nothing of it was checked; all other findings of a route
// stand in what its case wrote.
func (r *Report) JUnit(w io.Writer) error {
	doc := junitSuites{Name: r.Heading()}
	at := map[string]int{}
	add := func(suite string, c junitCase) {
		i, ok := at[suite]
		if !ok {
			i = len(doc.Suites)
			at[suite] = i
			doc.Suites = append(doc.Suites, junitSuite{Name: suite,
				Timestamp: r.Sweep.StartedAt.UTC().Format("2006-01-02T15:04:05")})
		}
		s := &doc.Suites[i]
		s.Cases = append(s.Cases, c)
		s.Tests++
		doc.Tests++
		if c.Failure != nil {
			s.Failures++
			doc.Failures++
		}
		if c.Skipped != nil {
			s.Skipped++
		}
	}
	shown := map[string]bool{}
	for _, rt := range r.Routes {
		var list []Item
		for _, it := range r.Findings {
			if slices.Contains(rt.Findings, it.ID) {
				list = append(list, it)
				shown[it.ID] = shown[it.ID] || it.Scope == nil
			}
		}
		c := r.junitCase(rt.Key, rt.Group, list)
		if c.Failure == nil && rt.Proven == 0 {
			c.Skipped = &junitSkipped{fmt.Sprintf("nothing of it was checked: %d unproven, %d not sent", rt.Unproven,
				rt.Unsent)}
		}
		add(rt.Group, c)
	}
	for _, it := range r.Findings {
		if !shown[it.ID] {
			name := it.Title + ": " + it.Where()
			it.Scope = nil // the case is its own
			add(together, r.junitCase(name, together, []Item{it}))
		}
	}
	if len(r.Doubts) > 0 {
		text := ""
		for _, d := range r.Doubts {
			text += d.Text + "\n"
		}
		add("the sweep", junitCase{Name: "its result is one to build on", Class: "the sweep",
			Failure: &junitFailure{r.Doubts[0].Text, "doubt", text}})
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(doc); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

func (r *Report) junitCase(name, class string, list []Item) junitCase {
	c := junitCase{Name: name, Class: class}
	var stops, rest []string
	for _, it := range list {
		line := fmt.Sprintf("%s: %s %s", it.ID, it.InShort(), it.Title)
		if it.Waived != nil {
			line += ", waived " + it.Waived.String()
		}
		if it.Scope != nil || !slices.Contains(r.Stops, it.ID) {
			rest = append(rest, line)
			continue
		}
		if c.Failure == nil {
			c.Failure = &junitFailure{Message: it.Title + ". " + it.Reason, Type: it.Name}
		}
		stops = append(stops, line+"\n"+it.Reason+"\nWhat to do: "+it.Advice+"\nCallers: "+
			strings.Join(it.everyone(), ", "))
	}
	if c.Failure != nil {
		c.Failure.Text = strings.Join(stops, "\n\n")
	}
	c.Out = strings.Join(rest, "\n")
	return c
}
