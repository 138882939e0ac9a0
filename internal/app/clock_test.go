package app

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
	"hylostat.example/test/made"
)

func TestAClockThatIsSetIsNoticed(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		ctx, stop := context.WithCancel(t.Context())
		began, set := time.Now(), time.Duration(0)
		read := func() (time.Time, time.Duration) { return time.Now().Add(set).Round(0), time.Since(began) }
		var told []time.Duration
		done := make(chan struct{})
		go func() {
			defer close(done)
			watchClock(ctx, read, func(by time.Duration) { told = append(told, by) })
		}()
		for _, by := range []time.Duration{0, time.Second, 2 * time.Hour, 0, -3 * time.Hour, -time.Second} {
			set += by
			time.Sleep(3 * clockEvery)
		}
		stop()
		<-done
		assert.Equal(t, []time.Duration{2 * time.Hour, -3 * time.Hour}, told)
	})
}

// A clock that was set back while the service was away: what comes now is dated before what is known.
func TestAClockBehindTheRecordsIsSaidAtTheStart(t *testing.T) {
	t.Parallel()
	dir := made.Before(t, 20_000) // its simulated time runs a thousand times as fast, so that it is ahead of a start with the machine's own
	c, end := serveDemo(t, dir, 20_000, nil)
	require.NotNil(t, c)
	require.Eventually(t, func() bool {
		r, err := c.Run(t.Context(), 4)
		return err == nil && r.State == contract.RunStateDone
	}, time.Minute, 20*time.Millisecond)
	require.NoError(t, end())
	made.Rewind(t, dir, 20_000)
	c, end = serveDemo(t, dir, 60, nil)
	require.NotNil(t, c)
	rows, err := c.Audit(t.Context(), contract.ListAuditParams{})
	require.NoError(t, err)
	found := 0
	for _, row := range rows {
		if row.Kind == "clock.moved" {
			found++
			assert.Contains(t, row.Text.Words, "The machine's clock moved back by ")
		}
	}
	assert.Equal(t, 1, found)
	require.NoError(t, end())
}
