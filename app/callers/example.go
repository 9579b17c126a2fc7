package callers

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"millgate/app/fault"
	"millgate/app/workspace"
	"millgate/core/byexample"
	"millgate/core/declaration/layout"
	"millgate/format/har"
	"millgate/format/pasted"
)

// Pasted is a text with requests that worked, and who sent them, in which role, "" where the requests say it.
type Pasted struct{ Text, Whose, Role string }

// mostExamples is how many requests are compared at once.
const mostExamples = 200

// Example reads pasted requests beside a text that is not kept yet, "" is the kept one.
func (c *Callers) Example(target, text string, list []Pasted) (r byexample.Reading, err error) {
	if text == "" {
		text = c.ws.Present().Text
	}
	var all []*byexample.Request
	for k, p := range list {
		if strings.TrimSpace(p.Text) == "" {
			continue
		}
		got, err := read(p.Text)
		if err != nil {
			return r, fmt.Errorf("%w: request %d: %w", fault.ErrInput, k+1, err)
		}
		for _, q := range got {
			q.Whose, q.Role = p.Whose, p.Role
			all = append(all, q)
		}
	}
	switch {
	case len(all) == 0:
		return r, fmt.Errorf("%w: paste a request that worked", fault.ErrInput)
	case len(all) > mostExamples:
		return r, fmt.Errorf("%w: these are %d requests; compare at most %d, or bring them in as routes",
			fault.ErrInput, len(all), mostExamples)
	}
	d, _ := c.ws.Parse(workspace.Begun(text))
	t := d.TargetNamed(target)
	if t == nil && len(d.Targets) > 0 {
		t = d.Targets[0]
	}
	return byexample.Read(d, t, all), nil
}

// read reads a text in whatever form it is.
func read(text string) ([]*byexample.Request, error) {
	if head := strings.TrimSpace(text); strings.HasPrefix(head, "{") || strings.HasPrefix(head, "[") {
		return har.Examples([]byte(head))
	}
	return pasted.Read(text)
}

// TakeExample writes proposals that somebody chose into a text, and keeps the secrets of these sealed. The text is not
// kept.
func (c *Callers) TakeExample(ctx context.Context, target, text string, list []Pasted, take []string) (out,
	title string, err error) {
	if text == "" {
		text = c.ws.Present().Text
	}
	r, err := c.Example(target, text, list)
	if err != nil {
		return "", "", err
	}
	for _, id := range take {
		if !slices.ContainsFunc(r.Proposals, func(p byexample.Proposal) bool { return p.ID == id }) {
			return "", "", fmt.Errorf("%w: there is no proposal %q of these requests", fault.ErrInput, id)
		}
	}
	var names []string
	out = workspace.Begun(text)
	d, before := c.ws.Parse(out)
	for _, p := range r.Proposals {
		if !slices.Contains(take, p.ID) {
			continue
		}
		if out, err = layout.Apply(out, p.Edits(d)...); err != nil {
			return "", "", fmt.Errorf("%w: %s: %w", fault.ErrInput, p.ID, err)
		}
		names = append(names, p.ID)
	}
	if out, err = c.ws.Undecided(out); err != nil {
		return "", "", err
	}
	_, msgs := c.ws.Parse(out)
	if m := firstError(msgs); m != nil && firstError(before) == nil {
		return "", "", fmt.Errorf("%w: it would leave an error: line %d: %s; %s", fault.ErrInput, m.Line, m.Text,
			m.Hint)
	}
	for _, p := range r.Proposals {
		if slices.Contains(take, p.ID) {
			if err := c.sealOf(ctx, p); err != nil {
				return "", "", err
			}
		}
	}
	return out, "By example: " + strings.Join(names, ", "), nil
}

// sealOf keeps the secrets of a proposal under the names that its text has.
func (c *Callers) sealOf(ctx context.Context, p byexample.Proposal) error {
	secrets := map[string]string{}
	for n, v := range p.Secrets {
		secrets[p.Name+"-"+n] = v
	}
	if p.Secret != "" {
		secrets[strings.TrimPrefix(p.Text, "kept:")] = p.Secret
	}
	for _, n := range slices.Sorted(maps.Keys(secrets)) {
		if err := c.seal(ctx, n, secrets[n]); err != nil {
			return fmt.Errorf("%w: %w", fault.ErrInput, err)
		}
	}
	return nil
}
