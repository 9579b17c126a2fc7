package snapshot

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/check"
	"millgate/core/check/quotas"
	"millgate/core/quota"
)

// A drill that measured nothing does not stand in place of one that did.
func TestWhichFactStands(t *testing.T) {
	calls := []quota.Seen{{OK: true}, {}}
	drill := func(m quotas.Measured) *Fact {
		return &Fact{Exchange: &check.Exchange{}, Check: &check.Fact{Family: "quota", Data: &m}}
	}
	whole := drill(quotas.Measured{Measured: quota.Measured{Calls: calls}})
	full := drill(quotas.Measured{Measured: quota.Measured{Calls: calls[:1], Full: true}})
	broke := drill(quotas.Measured{Measured: quota.Measured{Calls: calls}, Broke: "connection reset"})
	other := &Fact{Exchange: &check.Exchange{Status: 200}}
	for _, x := range []struct {
		name                  string
		before, after, stands *Fact
	}{
		{"full now", whole, full, whole},
		{"broken now", whole, broke, whole},
		{"measured again", whole, drill(quotas.Measured{Measured: quota.Measured{Calls: calls}}), nil},
		{"both came to nothing", full, broke, broke},
		{"measured at last", full, whole, whole},
		{"the first", nil, full, full},
		{"no measurement", other, other, other},
		{"none now", whole, other, other},
	} {
		got := Standing(x.before, x.after)
		if x.stands == nil {
			x.stands = x.after
		}
		assert.Same(t, x.stands, got, x.name)
	}
}
