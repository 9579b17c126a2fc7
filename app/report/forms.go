package report

import (
	"fmt"
	"io"
	"strings"

	"millgate/app/fault"
	"millgate/app/past"
	"millgate/core/check"
	"millgate/core/finding"
	"millgate/format/har"
)

// Creator is what writes reports, as they name it.
const Creator = "Mill Gate"

// HAR writes all exchanges that a report has (HAR 1.2). An exchange that several findings rest on stands once.
func (r *Report) HAR(w io.Writer) error {
	list := []har.Entry{}
	seen := map[string]bool{}
	for _, it := range r.Findings {
		for _, e := range it.Evidence {
			for _, x := range e.Exchanges {
				key := fmt.Sprint(x.At, x.Method, x.URL, x.Status)
				if seen[key] {
					continue
				}
				seen[key] = true
				list = append(list, entryOf(x, fmt.Sprintf("%s, %s as %s: %s", it.ID, e.Route, e.Who, x.Name)))
			}
		}
	}
	if len(list) == 0 && len(r.Findings) > 0 {
		return fmt.Errorf("%w: this result has no exchanges; make the archive from the stored sweep, or from a report "+
			"as .json", fault.ErrInput)
	}
	return har.Write(w, Creator, fmt.Sprint(past.Version), list)
}

func entryOf(x Named, comment string) har.Entry {
	return har.Entry{Began: x.At, Took: x.Took, Method: x.Method, URL: x.URL, Headers: x.Headers, Body: x.Body,
		Status: x.Status, Answer: x.Answer, Content: x.Content, Error: x.Error, Comment: comment}
}

// Markdown writes a report as text for people: a summary, then each finding.
func (r *Report) Markdown(w io.Writer) error {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n", text(r.Heading()))
	for _, l := range r.Summary() {
		fmt.Fprintf(&b, "%s  \n", text(l))
	}
	for _, g := range r.grouped() {
		if g.Name != "" {
			fmt.Fprintf(&b, "\n## %s\n", text(g.Name))
		}
		for _, it := range g.List {
			b.WriteString("\n")
			it.markdown(&b, 3)
		}
	}
	b.WriteString("\n## What was not seen\n\n")
	for _, l := range r.notSeen() {
		fmt.Fprintf(&b, "- %s\n", text(l))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// Markdown is a finding as text for a ticket.
func (it Item) Markdown() string {
	var b strings.Builder
	it.markdown(&b, 1)
	return b.String()
}

func (it Item) markdown(b *strings.Builder, level int) {
	fmt.Fprintf(b, "%s %s\n\n%s\n\n", strings.Repeat("#", level), text(it.Title), text(it.InShort()))
	fmt.Fprintf(b, "%s\n\n", text(it.Reason))
	row := func(name, what string) {
		if what != "" {
			fmt.Fprintf(b, "- **%s:** %s\n", name, what)
		}
	}
	row("Where", code(it.Where()))
	row("Callers", text(strings.Join(it.everyone(), ", ")))
	if len(it.Routes) > 1 {
		row("Routes", codes(it.Routes))
	}
	if it.Waived != nil {
		row("Waived", text(it.Waived.String()))
	}
	row("Why "+string(it.Severity), text(it.Weighs))
	row("What to do", text(strings.TrimSpace(it.Advice+" "+it.Standard)))
	row("What would refute it", text(it.Refuted))
	row("Owner", text(strings.Join(it.Owners, ", ")))
	row("Declared in", text(fmt.Sprintf("%s, line %d", it.File, it.Line)))
	row("See", text(fmt.Sprintf("%s, CWE-%d", it.OWASP, it.CWE)))
	row("Id", code(it.ID))
	for _, e := range it.Evidence {
		fmt.Fprintf(b, "\n**%s**\n", text(e.Route+" as "+e.Who))
		for _, x := range e.Exchanges {
			fmt.Fprintf(b, "\n%s:\n\n%s\n", text(x.Name), fenced(plainExchange(x.Exchange)))
		}
	}
}

// InShort is what a finding is, in a line: "unprotected · high · proven · new".
func (it Item) InShort() string {
	parts := []string{it.Name, string(it.Severity), string(it.Confidence)}
	if it.State != "" {
		parts = append(parts, string(it.State))
	}
	return strings.Join(parts, " · ")
}

func (it Item) everyone() []string {
	out := append([]string{}, it.Callers...)
	for _, n := range it.Inferred {
		out = append(out, n+" (inferred)")
	}
	return out
}

// plainExchange is a request with its answer as they go over the line.
func plainExchange(x check.Exchange) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s\n", x.Method, x.URL)
	for _, h := range x.Headers {
		fmt.Fprintf(&b, "%s: %s\n", h[0], h[1])
	}
	if x.Body != "" {
		fmt.Fprintf(&b, "\n%s\n", x.Body)
	}
	if x.Status == 0 {
		fmt.Fprintf(&b, "\nno answer: %s\n", x.Error)
		return b.String()
	}
	fmt.Fprintf(&b, "\n%d\n", x.Status)
	for _, h := range x.Answer {
		fmt.Fprintf(&b, "%s: %s\n", h[0], h[1])
	}
	if x.Content != "" {
		fmt.Fprintf(&b, "\n%s\n", x.Content)
		if x.Truncated {
			b.WriteString("…\n")
		}
	}
	return b.String()
}

// marks of Markdown that text must not make.
var marks = strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "<", "&lt;", ">", "&gt;", "[", `\[`,
	"]", `\]`, "#", `\#`, "|", `\|`, "!", `\!`, "\n", " ", "\r", " ")

func text(s string) string { return marks.Replace(s) }

// code is text between back ticks that it has none of.
func code(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	ticks := strings.Repeat("`", longest(s, '`')+1)
	if strings.HasPrefix(s, "`") || strings.HasSuffix(s, "`") {
		return ticks + " " + s + " " + ticks
	}
	return ticks + s + ticks
}

func codes(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = code(s)
	}
	return strings.Join(out, ", ")
}

// fenced is a block of text that it cannot end.
func fenced(s string) string {
	fence := strings.Repeat("`", max(3, longest(s, '`')+1))
	return fence + "\n" + strings.TrimRight(s, "\n") + "\n" + fence
}

// longest is the longest run of a character.
func longest(s string, c rune) (most int) {
	n := 0
	for _, r := range s {
		if r != c {
			n = 0
			continue
		}
		n++
		most = max(most, n)
	}
	return most
}

// group is findings of one owner.
type group struct {
	Name string
	List []Item
}

// grouped are the findings by owner; one group without a name where no route has one.
func (r *Report) grouped() []group {
	var out []group
	at := map[string]int{}
	owned := false
	for _, it := range r.Findings {
		name := strings.Join(it.Owners, ", ")
		owned = owned || name != ""
		if _, ok := at[name]; !ok {
			at[name] = len(out)
			out = append(out, group{Name: name})
		}
		g := &out[at[name]]
		g.List = append(g.List, it)
	}
	for i := range out {
		if owned && out[i].Name == "" {
			out[i].Name = "nobody's"
		}
	}
	return out
}

// Heading is what a report is of.
func (r *Report) Heading() string {
	name := r.Declaration.Title
	if name == "" {
		name = r.Declaration.File
	}
	return name + ", " + r.Sweep.Target
}

// Summary says in a few lines what a sweep came to.
func (r *Report) Summary() []string {
	out := []string{fmt.Sprintf("Sweep %d of %s, begun %s, %s", r.Sweep.ID, r.Sweep.Target,
		r.Sweep.StartedAt.UTC().Format("2006-01-02 15:04 MST"), r.Sweep.State)}
	out = append(out, fmt.Sprintf("By %s, revision %d, SHA-256 %s", r.Declaration.File, r.Sweep.Revision,
		r.Declaration.Hash))
	out = append(out, r.counted())
	c := r.Checked
	out = append(out, fmt.Sprintf("Of %d planned crossings %d are unproven and %d were not sent; %d of %d controls "+
		"were admitted", c.Planned, c.Unproven, c.Unsent, c.Admitted, c.Controls))
	for _, d := range r.Doubts {
		out = append(out, "None to build on: "+d.Text)
	}
	return out
}

// counted are the findings by severity, in words.
func (r *Report) counted() string {
	n, waived := map[finding.Severity]int{}, 0
	for _, it := range r.Findings {
		if it.Waived != nil {
			waived++
			continue
		}
		n[it.Severity]++
	}
	var parts []string
	for i := len(finding.Severities) - 1; i >= 0; i-- {
		if s := finding.Severities[i]; n[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n[s], s))
		}
	}
	said := "No findings to mend, as far as it was checked"
	if parts != nil {
		said = "Findings: " + strings.Join(parts, ", ")
	}
	if waived > 0 {
		said += fmt.Sprintf("; %d waived", waived)
	}
	return said
}

// notSeen is what the sweep cannot speak of.
func (r *Report) notSeen() (out []string) {
	for _, u := range r.Unproven {
		out = append(out, fmt.Sprintf("%d unproven: %s", u.Probes, u.Why))
	}
	for _, u := range r.Unsent {
		out = append(out, fmt.Sprintf("%d not sent: %s", u.Probes, u.Why))
	}
	if n := len(r.Left); n > 0 {
		out = append(out, fmt.Sprintf("%d left out of the plan, each with its reason in the JSON", n))
	}
	for _, m := range r.Made {
		out = append(out, fmt.Sprintf("left behind: %s by %s: %s", m.What, m.Route, m.Why))
	}
	return append(out, "never looked at: "+strings.Join(r.Checked.Outside, ", "))
}
