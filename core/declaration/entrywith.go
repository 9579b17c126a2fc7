package declaration

import "slices"

// Decided is the document in which an entry decides some routes, to ask what it would mean there. The document
// itself stays as it is, and nothing is checked: whoever writes the entry parses the text.
func (d *Document) Decided(e *Entry, routes ...int) *Document {
	c := *d
	c.Access = append(slices.Clip(slices.Clone(d.Access)), e)
	c.Deciding = slices.Clone(d.Deciding)
	for _, i := range routes {
		c.Deciding[i] = len(c.Access) - 1
	}
	return &c
}
