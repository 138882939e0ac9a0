package linux

import (
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
)

func TestACommandThatGotNoAnswerTellsWhetherItsDriveWentAway(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		fails := func(h *handle, class drive.FaultClass) *device.Failed {
			_, err := do(t.Context(), h, "command 12 to /dev/sdb", time.Second, func(int) (struct{}, error) {
				return struct{}{}, &device.Failed{Class: class, What: "command 12 to /dev/sdb", Cause: "host status 07h"}
			})
			f, ok := errors.AsType[*device.Failed](err)
			require.True(t, ok, err)
			return f
		}
		pulled := time.Now().Add(goesWithin - 50*time.Millisecond) // the kernel takes it down a little later
		f := fails(&handle{attached: func() bool { return time.Now().Before(pulled) }}, drive.FaultLink)
		assert.Equal(t, drive.FaultVanished, f.Class)
		assert.Equal(t, "host status 07h, and the drive is gone", f.Cause)

		looks := 0
		stays := &handle{attached: func() bool { looks++; return true }}
		assert.Equal(t, drive.FaultLink, fails(stays, drive.FaultLink).Class, "it is there: the cable")
		assert.Greater(t, looks, 10, "it was given time to go")
		looks = 0
		assert.Equal(t, drive.FaultNoAnswer, fails(stays, drive.FaultNoAnswer).Class)
		assert.Equal(t, 1, looks, "a bad cable does not cost that time at each command")
		assert.Equal(t, drive.FaultMedium, fails(&handle{}, drive.FaultMedium).Class, "this one answered")
	})
}

// An ioctl that does not come back leaves its handle stuck: nothing waits behind it, and it is free again when it returns after all.
func TestACommandThatDoesNotComeBackLeavesItsHandleStuck(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hangs := make(chan struct{})
		h := &handle{attached: func() bool { return true }}
		send := func(f func(int) (int, error)) (int, error) { return do(t.Context(), h, "command 12", time.Second, f) }
		class := func(err error) drive.FaultClass {
			f, ok := errors.AsType[*device.Failed](err)
			require.True(t, ok, err)
			assert.Equal(t, "command 12", f.What)
			return f.Class
		}
		asked := time.Now()
		_, err := send(func(int) (int, error) { <-hangs; return 0, nil })
		assert.Equal(t, drive.FaultStuck, class(err))
		assert.Equal(t, time.Second+grace, time.Since(asked))
		_, err = send(func(int) (int, error) { t.Error("sent behind the one that hangs"); return 0, nil })
		assert.Equal(t, drive.FaultStuck, class(err))
		close(hangs)
		synctest.Wait()
		n, err := send(func(int) (int, error) { return 7, nil })
		require.NoError(t, err)
		assert.Equal(t, 7, n)
		h.closed = true
		_, err = send(func(int) (int, error) { return 7, nil })
		assert.Equal(t, drive.FaultVanished, class(err))
	})
}
