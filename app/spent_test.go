package app

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/quota"
)

func TestWhatDrillsUseOfOtherQuotas(t *testing.T) {
	const second = 1_000_000
	s := &spent{}
	general := []count{{name: "general ann", quota: "general",
		stack: quota.Stack{{Kind: quota.FixedFirst, N: 3, W: 60 * second},
			{Kind: quota.FixedFirst, N: 100, W: 3600 * second}}}}
	bucket := []count{{name: "bucket ann", quota: "bucket",
		stack: quota.Stack{{Kind: quota.Bucket, N: 1, W: second, Burst: 5}}}}
	wait := func(list []count, many, now int64) int64 {
		d, _ := s.wait(list, many, now)
		return d
	}
	assert.Zero(t, wait(general, 3, 0), "nothing was called yet")
	s.add(general, 10*second)
	s.add(general, 20*second)
	assert.Zero(t, wait(general, 1, 21*second))
	d, by := s.wait(general, 2, 21*second)
	assert.EqualValues(t, 49*second+otherClock, d, "until the first has left the window")
	assert.Equal(t, "general", by)
	assert.EqualValues(t, 59*second+otherClock, wait(general, 50, 21*second), "no more than it holds can be waited for")
	s.add(general, 30*second)
	assert.EqualValues(t, 39*second+otherClock, wait(general, 1, 31*second))
	assert.Zero(t, wait(general, 1, 70*second))
	for range 5 {
		s.add(bucket, 0)
	}
	assert.EqualValues(t, 4*second+otherClock, wait(bucket, 1, second), "as strict as a window in which it fills")
	assert.Zero(t, wait(bucket, 5, 5*second))
	for k := range int64(mostRemembered + 10) {
		s.add(bucket, k)
	}
	assert.Len(t, s.log["bucket ann"], mostRemembered)
}
