package room

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"millgate/core/quota"
)

func TestWhatDrillsUseOfOtherQuotas(t *testing.T) {
	const second = 1_000_000
	s := &Spent{}
	general := []Counter{{Name: "general ann", Quota: "general",
		stack: quota.Stack{{Kind: quota.FixedFirst, N: 3, W: 60 * second},
			{Kind: quota.FixedFirst, N: 100, W: 3600 * second}}}}
	bucket := []Counter{{Name: "bucket ann", Quota: "bucket",
		stack: quota.Stack{{Kind: quota.Bucket, N: 1, W: second, Burst: 5}}}}
	wait := func(list []Counter, many, now int64) int64 {
		d, _ := s.Wait(list, many, now)
		return d
	}
	assert.Zero(t, wait(general, 3, 0), "nothing was called yet")
	s.Add(general, 10*second)
	s.Add(general, 20*second)
	assert.Zero(t, wait(general, 1, 21*second))
	d, by := s.Wait(general, 2, 21*second)
	assert.EqualValues(t, 49*second+otherClock, d, "until the first has left the window")
	assert.Equal(t, "general", by)
	assert.EqualValues(t, 59*second+otherClock, wait(general, 50, 21*second), "no more than it holds can be waited for")
	s.Add(general, 30*second)
	assert.EqualValues(t, 39*second+otherClock, wait(general, 1, 31*second))
	assert.Zero(t, wait(general, 1, 70*second))
	for range 5 {
		s.Add(bucket, 0)
	}
	assert.EqualValues(t, 4*second+otherClock, wait(bucket, 1, second), "as strict as a window in which it fills")
	assert.Zero(t, wait(bucket, 5, 5*second))
	for k := range int64(mostRemembered + 10) {
		s.Add(bucket, k)
	}
	assert.Len(t, s.log["bucket ann"], mostRemembered)
}
