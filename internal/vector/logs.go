package vector

import (
	"log/slog"
	"strings"
	"sync"
)

// Logs is what is logged, for tests that hold it. The zero Logs is empty.
type Logs struct {
	mu    sync.Mutex // guards lines
	lines []string
}

// Write implements io.Writer: a line a call.
func (l *Logs) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.lines = append(l.lines, strings.TrimSpace(string(b)))
	return len(b), nil
}

// Take gives what was logged since it was last asked.
func (l *Logs) Take() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	all := l.lines
	l.lines = nil
	return all
}

// Logger logs to l, without the time.
func (l *Logs) Logger() *slog.Logger {
	return slog.New(slog.NewTextHandler(l, &slog.HandlerOptions{ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
		if a.Key == slog.TimeKey {
			return slog.Attr{}
		}
		return a
	}}))
}
