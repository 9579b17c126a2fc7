package importing

import (
	"fmt"
	"strings"

	"millgate/core/inventory"
	"millgate/core/route"
)

func lines(p *Preview, text string) (in []inventory.Incoming) {
	for n, l := range strings.Split(text, "\n") {
		l = strings.TrimSpace(l)
		if l == "" || strings.HasPrefix(l, "#") {
			continue
		}
		f := strings.Fields(l)
		if len(f) > 2 {
			// What stands behind the path says what it is for.
			in = append(in, inventory.Incoming{Key: strings.ToUpper(f[0]) + " " + f[1],
				Summary: strings.Join(f[2:], " "), Line: n + 1})
		} else if len(f) == 2 {
			in = append(in, inventory.Incoming{Key: strings.ToUpper(f[0]) + " " + f[1], Line: n + 1})
		} else {
			p.Problems = append(p.Problems, Problem{n + 1, fmt.Sprintf("%q is not METHOD /path", l)})
			continue
		}
		if _, err := route.ParseTemplate(in[len(in)-1].Key); err != nil {
			p.Problems = append(p.Problems, Problem{n + 1, err.Error()})
			in = in[:len(in)-1]
		}
	}
	return in
}
