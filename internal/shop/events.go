package shop

import (
	"context"
	"sync"
)

// hub hands events to whoever listens. A listener that does not keep up loses progress, never facts: its channel closes and
// it reads the facts again from the store.
type hub struct {
	mu        sync.Mutex
	listeners map[chan Event]struct{}
}

func (h *hub) publish(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.listeners {
		select {
		case c <- e:
		default:
			if e.Kind != RunProgress {
				delete(h.listeners, c)
				close(c)
			}
		}
	}
}

// Listen delivers events from now on until the context ends. The channel closes when the listener fell behind.
func (s *Shop) Listen(ctx context.Context) <-chan Event {
	c := make(chan Event, 256)
	s.hub.mu.Lock()
	if s.hub.listeners == nil {
		s.hub.listeners = map[chan Event]struct{}{}
	}
	s.hub.listeners[c] = struct{}{}
	s.hub.mu.Unlock()
	context.AfterFunc(ctx, func() {
		s.hub.mu.Lock()
		defer s.hub.mu.Unlock()
		if _, still := s.hub.listeners[c]; still {
			delete(s.hub.listeners, c)
			close(c)
		}
	})
	return c
}

// Events lists stored facts after a sequence number.
func (s *Shop) Events(ctx context.Context, after int64, limit int) ([]Event, error) {
	return s.store.Events(ctx, after, limit)
}

// LastEvent is the newest fact's sequence number.
func (s *Shop) LastEvent(ctx context.Context) (int64, error) { return s.store.LastEvent(ctx) }
