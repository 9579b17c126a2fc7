package layout

import (
	"fmt"
	"slices"
	"strings"

	"millgate/core/declaration"
)

// Raise makes a text one of at least a version of the language, and says whether it was of an earlier one.
// Nothing else is written otherwise; what that means by the later version, the caller asks.
func Raise(text string, to declaration.Version) (out string, raised bool, err error) {
	if rest, ok := strings.CutPrefix(text, orderMark); ok {
		out, raised, err = Raise(rest, to)
		return orderMark + out, raised, err
	}
	p, ok := source{text}.top().find("millgate")
	if !ok || p.valEnd <= p.val {
		return text, false, fmt.Errorf("the file does not say its version; begin it with  millgate: %s", to)
	}
	is := declaration.Version(strings.Trim(strings.TrimSpace(text[p.val:p.valEnd]), `"'`))
	if slices.Index(declaration.Versions, is) >= slices.Index(declaration.Versions, to) {
		return text, false, nil
	}
	return text[:p.val] + string(to) + text[p.valEnd:], true, nil
}
