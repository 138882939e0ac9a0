package access

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	home = "192.0.2.7"
	away = "192.0.2.66"
)

// tries has a guard try a proof that comes out as it is told, and gives how often it failed of late and how late the answer came.
func tries(t *testing.T, g *guard, name, address string, is tried) (fails int, late time.Duration) {
	t.Helper()
	began := time.Now()
	fails, err := g.attempt(t.Context(), name, address, func() (tried, error) { return is, nil })
	require.NoError(t, err)
	return fails, time.Since(began)
}

func TestHowLateAWrongPasswordIsAnswered(t *testing.T) {
	var seconds []int
	for n := range 16 {
		seconds = append(seconds, int(late(n).Seconds()))
	}
	assert.Equal(t, []int{0, 0, 0, 0, 1, 2, 4, 8, 16, 30, 30, 30, 30, 30, 30, 30}, seconds)
	assert.Equal(t, 30*time.Second, late(1_000_000))
}

// What counts for a name, for an address and for both, what clears it, and what does neither.
func TestWhatIsCountedOfGuessing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := newGuard(time.Now)
		count := func(name, address string, is tried) int {
			fails, _ := tries(t, g, name, address, is)
			return fails
		}
		assert.Equal(t, 1, count("Maud", away, isWrong))
		assert.Equal(t, 2, count("Maud", away, isWrong))
		assert.Equal(t, 0, count("Maud", away, isHalf))
		assert.Equal(t, 3, count("Maud", away, isWrong), "half a proof clears nothing")
		assert.Equal(t, 4, count("Maud", home, isWrong), "the name, wherever from")
		assert.Equal(t, 4, count("Dov", away, isWrong), "the address, whichever name")
		assert.Equal(t, 2, count("Dov", home, isWrong))
		assert.Equal(t, 0, count("Maud", home, isRight))
		assert.Equal(t, 1, count("Maud", home, isWrong), "whoever has signed in from there is counted alone")
		assert.Equal(t, 0, count("Maud", home, isRight))
		assert.Equal(t, 1, count("Maud", home, isWrong), "and begins anew with each")
		assert.Equal(t, 5, count("Maud", away, isWrong), "the right one cleared the name; the address is still what it was")
		assert.Equal(t, 3, count("Imre", home, isWrong))
		fails, took := tries(t, g, "Imre", home, isWrong)
		assert.Equal(t, 4, fails)
		assert.Equal(t, time.Second, took)
		assert.Zero(t, g.held, "no answer is held back any more")

		assert.Equal(t, 1, count("Tilde", "2001:db8:1:2::7", isWrong))
		assert.Equal(t, 2, count("Nuria", "2001:db8:1:2:ffff::1", isWrong), "a host has all of its network's addresses")
		assert.Equal(t, 1, count("Piet", "2001:db8:1:3::7", isWrong))
		assert.Equal(t, 1, count("Aoife", "::ffff:198.51.100.7", isWrong))
		assert.Equal(t, 2, count("Bram", "198.51.100.7", isWrong))
		assert.Equal(t, 1, count("Sanne", "198.51.100.8", isWrong))

		time.Sleep(failsLast - took)
		fails, took = tries(t, g, "Imre", home, isWrong)
		assert.Equal(t, 5, fails, "not forgotten yet")
		time.Sleep(failsLast - took + 1)
		assert.Equal(t, 1, count("Imre", home, isWrong))
	})
}

// A proof that could not be tried is no wrong one, and whoever has gone waits for nothing.
func TestWhatIsNotTried(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := newGuard(time.Now)
		broken := errors.New("the disk does not answer")
		for range 5 {
			_, err := g.attempt(t.Context(), "Maud", home, func() (tried, error) { return isWrong, broken })
			require.ErrorIs(t, err, broken)
		}
		fails, _ := tries(t, g, "Maud", home, isWrong)
		assert.Equal(t, 1, fails)
		gone, leave := context.WithCancel(t.Context())
		for range 3 {
			tries(t, g, "Maud", home, isWrong)
		}
		go func() { time.Sleep(time.Second); leave() }()
		began := time.Now()
		fails, err := g.attempt(gone, "Maud", home, func() (tried, error) { return isWrong, nil })
		require.ErrorIs(t, err, context.Canceled)
		assert.Equal(t, 5, fails, "it is counted all the same")
		assert.Equal(t, time.Second, time.Since(began))
		assert.Zero(t, g.held)
	})
}

// Two passwords are tried at once, and so many answers are held back for one name or address, and in all.
func TestHowManyAreTriedAndHeldBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := newGuard(time.Now)
		under, most := 0, 0
		ended := make(chan error, 2*heldInAll)
		guess := func(name, address string) {
			_, err := g.attempt(t.Context(), name, address, func() (tried, error) {
				under++
				most = max(most, under)
				time.Sleep(time.Millisecond)
				under--
				return isRight, nil
			})
			ended <- err
		}
		refused := func(all int) (n int) {
			for range all {
				var busy *Busy
				if err := <-ended; errors.As(err, &busy) {
					n++
				} else {
					require.NoError(t, err)
				}
			}
			return n
		}
		for n := range heldForOne + 5 {
			go guess("Maud", strconv.Itoa(n))
		}
		assert.Equal(t, 5, refused(heldForOne+5))
		assert.Equal(t, triedAtOnce, most)
		for n := range heldForOne + 5 {
			go guess(strconv.Itoa(n), home)
		}
		assert.Equal(t, 5, refused(heldForOne+5))
		for n := range heldInAll + 7 {
			go guess("p"+strconv.Itoa(n), "q"+strconv.Itoa(n))
		}
		assert.Equal(t, 7, refused(heldInAll+7))
		assert.Zero(t, g.held)
		for range 4 {
			tries(t, g, "Dov", away, isWrong)
		}
		g.of("name Dov").held = heldForOne
		_, err := g.attempt(t.Context(), "Dov", home, nil)
		assert.ErrorContains(t, err, "Try again in 1 s")
	})
}

// The oldest is forgotten when there are too many, and never one that somebody waits for.
func TestTalliesAreBounded(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := newGuard(time.Now)
		for n := range mostTallies {
			g.of(fmt.Sprint(n)).last = time.Now().Add(time.Duration(n) * time.Nanosecond)
		}
		assert.Len(t, g.tallies, mostTallies)
		g.tallies["0"].held = 1
		g.tallies["4711"].last = time.Now().Add(-time.Second)
		g.of("one more").last = time.Now().Add(time.Second)
		assert.Len(t, g.tallies, mostTallies)
		assert.NotContains(t, g.tallies, "4711")
		g.of("and another").last = time.Now().Add(time.Second)
		assert.Len(t, g.tallies, mostTallies)
		assert.NotContains(t, g.tallies, "1")
		assert.Contains(t, g.tallies, "0")

		fails, _ := tries(t, g, "Maud", home, isWrong)
		assert.Equal(t, 1, fails)
		for _, key := range []string{"name Maud", "address " + home} {
			assert.Equal(t, tally{fails: 1, last: time.Now()}, *g.tallies[key], "neither was forgotten for the other")
		}
		assert.Len(t, g.tallies, mostTallies)
		for n := range mostTallies - 1 {
			g.known[[2]string{"Maud", strconv.Itoa(n)}] = true
		}
		tries(t, g, "Maud", home, isRight)
		tries(t, g, "Maud", away, isRight)
		assert.Len(t, g.known, mostTallies)
	})
}

func TestWhatIsSaidOnceAMinute(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := newGuard(time.Now)
		assert.True(t, g.once("a"))
		assert.True(t, g.once("b"))
		time.Sleep(time.Minute - 1)
		assert.False(t, g.once("a"))
		time.Sleep(time.Nanosecond)
		assert.True(t, g.once("a"))
	})
}
