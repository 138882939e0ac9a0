// Package lowpriority runs imports and replays on threads the kernel serves last: whoever opens a drive while a file of ten thousand
// readings
// comes in would else wait for its turn, where there are two processors.
package lowpriority

import (
	"runtime"
	"sync"
)

// Do runs f on a thread of its own that the kernel serves last, and waits for it. Should f panic, Do does.
func Do(f func() error) error {
	enter()
	defer leave()
	type end struct {
		err      error
		panicked any
	}
	ended := make(chan end, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine, and its low priority with it
		// A thread may always lower itself. Should it fail, all is done as it would be without.
		lowerThread()
		var e end
		defer func() {
			e.panicked = recover()
			ended <- e
		}()
		e.err = f()
	}()
	e := <-ended
	if e.panicked != nil {
		panic(e.panicked)
	}
	return e.err
}

var (
	mu      sync.Mutex
	running int // how much of it runs now
)

// enter gives Go's scheduler one processor more than there are, for as long as some of it runs. That holds one until it is
// done, and Go knows nothing of its priority; with one to spare the kernel decides, which does. At other times the spare one would
// only let the collector work beside what is urgent.
func enter() {
	mu.Lock()
	defer mu.Unlock()
	if running++; running == 1 {
		runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + 1)
	}
}

func leave() {
	mu.Lock()
	defer mu.Unlock()
	if running--; running == 0 {
		runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) - 1)
	}
}
