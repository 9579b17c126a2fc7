package importing

import (
	"fmt"
	"strings"

	"millgate/core/inventory"
)

func lines(p *Preview, text string) (in []inventory.Incoming) {
	for n, l := range strings.Split(text, "\n") {
		l = strings.TrimSpace(l)
		if l == "" || strings.HasPrefix(l, "#") {
			continue
		}
		f := strings.Fields(l)
		if len(f) < 2 {
			p.Problems = append(p.Problems, Problem{n + 1, fmt.Sprintf("%q is not METHOD /path", l)})
			continue
		}
		keys, unclear, err := inventory.Templates(f[0], f[1])
		if err != nil {
			p.Problems = append(p.Problems, Problem{n + 1, err.Error()})
			continue
		}
		for _, key := range keys { // what stands behind the path says what it is for
			in = append(in, inventory.Incoming{Key: key, Summary: strings.Join(f[2:], " "), Unclear: unclear,
				Line: n + 1})
		}
	}
	return in
}
