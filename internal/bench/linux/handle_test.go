package linux

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
)

func TestACommandThatGotNoAnswerTellsWhetherItsDriveWentAway(t *testing.T) {
	fails := func(h *handle, class drive.FaultClass) *device.Failed {
		_, err := do(t.Context(), h, "command 12 to /dev/sdb", time.Second, func(int) (struct{}, error) {
			return struct{}{}, &device.Failed{Class: class, What: "command 12 to /dev/sdb", Cause: "host status 07h"}
		})
		f, ok := errors.AsType[*device.Failed](err)
		require.True(t, ok, err)
		return f
	}
	pulled := time.Now().Add(300 * time.Millisecond) // the kernel takes it down a little later
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
}
