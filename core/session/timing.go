package session

import (
	"math"
	"slices"
	"time"
)

// Timing compares how long two kinds of answers took.
type Timing struct {
	N           int           `json:"n"`           // of each kind
	Known       time.Duration `json:"known"`       // median with a known name
	Unknown     time.Duration `json:"unknown"`     // median with an unknown name
	Probability float64       `json:"probability"` // that such a difference comes by chance
	Differs     bool          `json:"differs"`     // it is small, and the medians are apart
}

const (
	chance = 0.01                   // below this a difference is told
	apart  = 500 * time.Microsecond // medians nearer than this are not
)

// Compare tests whether two samples come from one distribution: the rank sum
// test of Mann and Whitney, two-sided, by the normal approximation with ties.
func Compare(known, unknown []time.Duration) Timing {
	t := Timing{N: min(len(known), len(unknown)), Known: median(known), Unknown: median(unknown), Probability: 1}
	n, m := float64(len(known)), float64(len(unknown))
	if n == 0 || m == 0 {
		return t
	}
	type sample struct {
		d     time.Duration
		known bool
	}
	all := make([]sample, 0, len(known)+len(unknown))
	for _, d := range known {
		all = append(all, sample{d, true})
	}
	for _, d := range unknown {
		all = append(all, sample{d, false})
	}
	slices.SortFunc(all, func(a, b sample) int { return int(a.d - b.d) })
	ranks, ties := 0.0, 0.0
	for i := 0; i < len(all); {
		j := i
		for j < len(all) && all[j].d == all[i].d {
			j++
		}
		size := float64(j - i)
		ties += size*size*size - size
		for k := i; k < j; k++ {
			if all[k].known {
				ranks += float64(i+j+1) / 2
			}
		}
		i = j
	}
	u := ranks - n*(n+1)/2
	total := n + m
	spread := math.Sqrt(n * m / 12 * (total + 1 - ties/(total*(total-1))))
	if spread > 0 {
		z := (math.Abs(u-n*m/2) - 0.5) / spread
		t.Probability = math.Min(1, math.Erfc(math.Max(0, z)/math.Sqrt2))
	}
	t.Differs = t.Probability < chance && (t.Known-t.Unknown).Abs() > apart
	return t
}

func median(d []time.Duration) time.Duration {
	if len(d) == 0 {
		return 0
	}
	s := slices.Clone(d)
	slices.Sort(s)
	return (s[len(s)/2] + s[(len(s)-1)/2]) / 2
}
