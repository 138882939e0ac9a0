package lowpriority

import (
	"errors"
	"runtime"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// urgency is what the kernel tells of the present thread: 20 is as urgent as any, less is less.
func urgency(t *testing.T) int {
	t.Helper()
	u, err := unix.Getpriority(unix.PRIO_PROCESS, unix.Gettid())
	require.NoError(t, err)
	return u
}

func TestWorkBehindIsLessUrgentAndNothingElseIs(t *testing.T) {
	before := urgency(t)
	failed := errors.New("it failed")
	for range 50 { // as many threads: none of them serves anybody afterwards
		assert.Equal(t, failed, Do(func() error {
			assert.Equal(t, before-lower, urgency(t))
			return failed
		}))
		done := make(chan int)
		go func() { done <- urgency(t) }()
		assert.Equal(t, before, <-done)
	}
}

func TestOneProcessorIsToSpareWhileSomethingRunsBehind(t *testing.T) {
	before := runtime.GOMAXPROCS(0)
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			_ = Do(func() error {
				assert.Equal(t, before+1, runtime.GOMAXPROCS(0), "however much runs")
				return nil
			})
		})
	}
	all.Wait()
	assert.Equal(t, before, runtime.GOMAXPROCS(0))
	assert.PanicsWithValue(t, "broken", func() { _ = Do(func() error { panic("broken") }) }, "whoever asked can deal with it")
	assert.Equal(t, before, runtime.GOMAXPROCS(0))
}
