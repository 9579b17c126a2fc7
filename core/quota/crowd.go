package quota

import "fmt"

// Crowd is what calls showed that were sent together when a quota was full, or while calls waited.
type Crowd struct {
	Sent   int `json:"sent"`
	Waited int `json:"waited"` // of those, how many were not answered at once
	// Late were not answered while the drill could wait.
	Late int `json:"late,omitempty"`
	// Vain of those that waited were refused then: in vain, or at once by a service that was busy.
	Vain int `json:"vain,omitempty"`
	// Stood were sent or answered while the sender stood still: whether they waited was not seen.
	Stood int `json:"stood,omitempty"`
	// Left were given up before those: where the service does not notice, they stand in the queue still.
	Left int `json:"left,omitempty"`
	// Refused were refused at once.
	Refused int `json:"refused,omitempty"`
	// Overtaken are pairs of which the later was answered first, of two tries the fewest.
	Overtaken int `json:"overtaken,omitempty"`
}

// Sure is how many calls waited in a way that a busy service does not explain.
func (c *Crowd) Sure() int { return c.Waited - c.Vain }

// waits says how many may wait, by a crowd.
func (c *Crowd) waits() Conclusion {
	out := Conclusion{About: AboutQueue, Sure: Likely}
	many := fmt.Sprint(c.Waited)
	if c.Left > 0 { // whether the service noticed that they were given up is not known
		many = fmt.Sprintf("%d or %d", c.Waited, c.Waited+c.Left)
	}
	if c.Refused > 0 {
		out.Text = fmt.Sprintf("%s wait for their turn, the next is refused.", many)
	} else {
		out.Text = fmt.Sprintf("At least %d wait for their turn.", c.Waited)
	}
	out.Because = []string{fmt.Sprintf("of %d calls sent together %d were not answered at once, and %d were refused",
		c.Sent, c.Waited, c.Refused)}
	if c.Late > 0 {
		out.Because = append(out.Because, fmt.Sprintf("%d of them waited for longer than the drill could", c.Late))
	}
	if c.Vain > 0 {
		out.Because = append(out.Because, fmt.Sprintf("%d of them were refused, late: in vain, or the service was busy",
			c.Vain))
	}
	if c.Stood > 0 {
		out.Because = append(out.Because, fmt.Sprintf("of %d it was not seen, since the sender stood still", c.Stood))
	}
	if c.Left > 0 {
		out.Because = append(out.Because, fmt.Sprintf("%d had been given up before, and may have stood in the queue "+
			"still",
			c.Left))
	}
	if c.Overtaken > 0 {
		out.Because = append(out.Because, fmt.Sprintf("%d were answered after one that had come later", c.Overtaken))
	}
	return out
}
