package snapshot

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/check"
	"millgate/core/check/quotas"
	"millgate/core/quota"
)

func TestWhatCameToNothing(t *testing.T) {
	calls := []quota.Seen{{OK: true}, {}}
	drill := func(m quotas.Measured) *Fact {
		return &Fact{Exchange: &check.Exchange{}, Check: &check.Fact{Family: "quota", Data: &m}}
	}
	for _, x := range []struct {
		name string
		f    *Fact
		void bool
	}{
		{"a drill", drill(quotas.Measured{Measured: quota.Measured{Calls: calls}}), false},
		{"full", drill(quotas.Measured{Measured: quota.Measured{Calls: calls, Full: true}}), true},
		{"broken off", drill(quotas.Measured{Measured: quota.Measured{Calls: calls}, Broke: "connection reset"}), true},
		{"no call", drill(quotas.Measured{}), true},
		{"failures", drill(quotas.Measured{Measured: quota.Measured{Calls: calls, Failed: 1}}), true},
		{"no measurement", &Fact{Exchange: &check.Exchange{Status: 200}}, false},
		{"none", nil, false},
	} {
		assert.Equal(t, x.void, x.f.Void(), x.name)
	}
}
