package wire

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"millgate/core/access"
	"millgate/core/check"
	"millgate/core/mask"
	"millgate/core/route"
	"millgate/core/token"
)

// outgoing fills a call's template and presents its credentials. epoch is that of the
// first, where it is a caller's own.
func (r *running) outgoing(ctx context.Context, c check.Call) (out Outgoing, epoch int, err error) {
	q := c.Request
	values := map[string]string{}
	for n, f := range q.Fill {
		v, err := r.value(f)
		if err != nil {
			return Outgoing{}, 0, err
		}
		values[n] = v
	}
	o := Outgoing{Params: q.Params, Method: q.Method, Host: q.Host, Path: fillText(q.Path, values, route.EscapeSegment),
		Query: fillText(q.Query, values, url.QueryEscape)}
	if q.Link != "" {
		if err := r.linked(&o, q.Link); err != nil {
			return o, 0, err
		}
	}
	if len(q.Params) > 0 {
		o.Params = map[string]string{}
		for n, v := range q.Params {
			o.Params[n] = fillText(v, values, same)
		}
	}
	for _, h := range q.Headers {
		o.Headers = append(o.Headers, [2]string{h[0], fillText(h[1], values, same)})
	}
	if len(q.Needs) > 0 {
		needed, err := r.k.Values(ctx, q.NeedsOf, q.Needs)
		if err != nil {
			return o, 0, err
		}
		for _, n := range q.Needs {
			if v, ok := needed[n]; ok {
				values[n] = v
			}
		}
	}
	if len(q.Body) > 0 {
		o.Body = FillBody(q.Body, q.Headers.Get("Content-Type"), values)
	}
	for i, p := range c.As {
		n, err := r.present(ctx, &o, p)
		if err != nil {
			return o, 0, err
		}
		if i == 0 {
			epoch = n
		}
	}
	return o, epoch, nil
}

// value is what stands for a name.
func (r *running) value(f check.Fill) (string, error) {
	switch {
	case f.Slot != "":
		r.mu.Lock()
		defer r.mu.Unlock()
		v, ok := r.slots[f.Slot]
		if !ok {
			return "", fmt.Errorf("%w: nothing was taken for %s", ErrCredential, f.Slot)
		}
		return v, nil
	case f.Made != "":
		return r.made(f), nil
	case f.Identity != "":
		fill, err := r.k.fill(f.Identity, f.Scheme)
		return fill[f.Name], err
	case f.Name != "":
		return r.k.target.Values[f.Name], nil
	}
	return f.Text, nil
}

// made is what is made up for a word in a form.
func (r *running) made(f check.Fill) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.drawn == nil {
		r.drawn = map[check.Fill]string{}
	}
	text, ok := r.drawn[f]
	if ok {
		return text
	}
	switch f.Form {
	case check.AsEmail:
		text = f.Made + "-" + random()[:16] + "@probe.example" // a name that nobody can register (RFC 2606)
	case check.AsUUID:
		d := random()
		text = d[:8] + "-" + d[8:12] + "-4" + d[13:16] + "-a" + d[17:20] + "-" + d[20:32] // RFC 9562 section 5.4
	case check.AsPassword:
		// Letters of both cases, digits and a sign, whatever a rule asks for beside the length.
		size := cmp.Or(f.Size, passwordSize)
		for text = "Mg7-"; len(text) < size; text += random() {
		}
		text = text[:size]
		r.k.client.mask.Learn(mask.Secret, text)
	default:
		text = f.Made + "-" + random()[:16]
	}
	r.drawn[f] = text
	return text
}

// passwordSize is how many characters a made-up password has where nothing is said.
const passwordSize = 24

// echoed are the words of made-up passwords that an answer shows.
func (r *running) echoed(x raw) (words []string) {
	for f, text := range r.drawn {
		if f.Form != check.AsPassword {
			continue
		}
		if bytes.Contains(x.content, []byte(text)) || slices.ContainsFunc(x.Answer,
			func(h [2]string) bool { return strings.Contains(h[1], text) }) {
			words = append(words, f.Made)
		}
	}
	slices.Sort(words)
	return words
}

// linked puts the link of a slot in the place of a request's address.
func (r *running) linked(o *Outgoing, slot string) error {
	text, err := r.value(check.Fill{Slot: slot})
	if err != nil {
		return err
	}
	a, err := r.k.client.address(text, o.Host)
	switch {
	case err != nil:
		return err
	case a.Elsewhere != "":
		return a.outside()
	}
	o.Host, o.Path, o.Query = a.Host, a.Path, a.Query
	return nil
}

// broken presents a credential that is broken in a way. epoch is that of the sound one where
// there is nothing wrong in what counts.
func (r *running) broken(ctx context.Context, o *Outgoing, p check.Present) (epoch int, err error) {
	s := r.k.doc.SchemeNamed(p.Scheme)
	if s == nil || r.Breaking == nil {
		return 0, fmt.Errorf("%w: there is no scheme %q", ErrCredential, p.Scheme)
	}
	if check.MustEnter(p.Way) {
		if _, epoch, err = r.k.Token(ctx, p.Identity, p.Scheme); err != nil {
			return 0, err
		}
	}
	return epoch, r.Breaking.Present(ctx, o, Broken{Scheme: s, Donor: p.Identity, Way: p.Way, Role: p.Role, Off: p.Off,
		Beside: p.Beside.Identity, BesideScheme: cmp.Or(p.Beside.Scheme, p.Other),
		Public: func() token.Keys {
			if r.Public == nil {
				return token.Keys{}
			}
			return r.Public(s)
		}})
}

func (r *running) present(ctx context.Context, o *Outgoing, p check.Present) (epoch int, err error) {
	switch {
	case p.Way != "":
		return r.broken(ctx, o, p)
	case p.Fresh:
		s := r.k.doc.SchemeNamed(p.Scheme)
		if s == nil {
			return 0, fmt.Errorf("%w: there is no scheme %q", ErrCredential, p.Scheme)
		}
		return 0, r.k.PresentFresh(ctx, o, p.Identity, s)
	case p.Slot == "" && p.Identity == "" && p.State == access.Broken:
		return 0, r.k.PresentBroken(ctx, o, p.Scheme)
	case p.Slot == "":
		return r.k.Present(ctx, o, p.Identity, p.Scheme)
	}
	s := r.k.doc.SchemeNamed(p.Scheme)
	if s == nil {
		return 0, fmt.Errorf("%w: there is no scheme %q", ErrCredential, p.Scheme)
	}
	v, err := r.value(check.Fill{Slot: p.Slot})
	if err != nil {
		return 0, err
	}
	attach(o, s, v)
	return 0, nil
}
