package declaration

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// HintAt asks whether the known word was meant that is nearest to one; without any near it is otherwise.
func HintAt(word string, known []string, otherwise string) string {
	if near := Nearest(word, known); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return otherwise
}

// Nearest returns the known word that is closest to word, "" when none is
// close enough to be worth suggesting.
func Nearest(word string, known []string) string {
	best, bestD := "", len(word)/3+2
	for _, k := range known {
		if d := distance(strings.ToLower(word), strings.ToLower(k), bestD); d < bestD {
			best, bestD = k, d
		}
	}
	return best
}

// distance is the number of insertions, deletions, replacements and swaps of
// neighbours between a and b, or limit when it is not below it.
func distance(a, b string, limit int) int {
	if d := len(a) - len(b); d >= limit || -d >= limit {
		return limit
	}
	prev2, prev, cur := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		cur[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cur[j] = min(cur[j], prev2[j-2]+1)
			}
		}
		prev2, prev, cur = prev, cur, prev2
	}
	return min(prev[len(b)], limit)
}

var durationPart = regexp.MustCompile(`^(\d+(?:\.\d+)?)(ms|s|m|h|d|w)`)

var units = map[string]time.Duration{"ms": time.Millisecond, "s": time.Second, "m": time.Minute, "h": time.Hour,
	"d": 24 * time.Hour, "w": 7 * 24 * time.Hour}

// ParseDuration reads durations as people write them: 30s, 15m, 1h30m, 30d.
func ParseDuration(s string) (time.Duration, error) {
	rest, total := s, time.Duration(0)
	for rest != "" {
		m := durationPart.FindStringSubmatch(rest)
		if m == nil {
			return 0, fmt.Errorf("%q is not a duration; write 30s, 15m, 12h or 30d", s)
		}
		n, err := strconv.ParseFloat(m[1], 64)
		if err != nil {
			return 0, fmt.Errorf("%q is not a duration", s)
		}
		part := n * float64(units[m[2]])
		if part > float64(math.MaxInt64/2) || total > math.MaxInt64/2 {
			return 0, fmt.Errorf("%q is longer than a time can be here: 146 years", s)
		}
		total += time.Duration(part)
		rest = rest[len(m[0]):]
	}
	if s == "" || total < 0 {
		return 0, fmt.Errorf("%q is not a duration; write 30s, 15m, 12h or 30d", s)
	}
	return total, nil
}

// ShortDuration writes a duration the way ParseDuration reads it.
func ShortDuration(d time.Duration) string {
	for _, u := range []string{"d", "h", "m", "s"} {
		if d >= units[u] && d%units[u] == 0 {
			return fmt.Sprintf("%d%s", d/units[u], u)
		}
	}
	return d.String()
}

// ParsePace reads "200 per 1s".
func ParsePace(s string) (Pace, error) {
	f := strings.Fields(s)
	if len(f) != 3 || f[1] != "per" {
		return Pace{}, fmt.Errorf("%q is not a pace; write for example 5 per 1s", s)
	}
	n, err := strconv.Atoi(f[0])
	if err != nil || n < 1 {
		return Pace{}, fmt.Errorf("%q is not a whole number above zero", f[0])
	}
	d, err := ParseDuration(f[2])
	if err != nil {
		return Pace{}, err
	}
	if d == 0 {
		return Pace{}, fmt.Errorf("a pace cannot be per zero time")
	}
	return Pace{Count: n, Per: d}, nil
}

// DefaultPace is used where a target says none.
var DefaultPace = Pace{Count: 5, Per: time.Second}
