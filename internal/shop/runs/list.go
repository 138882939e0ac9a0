package runs

import (
	"context"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/shop"
)

// Runs lists runs, open ones as fresh as their progress.
func (s *Conductor) Runs(ctx context.Context, q shop.RunQuery) ([]check.Run, error) {
	all, err := s.store.Runs(ctx, q)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, r := range all {
		if live, ok := s.live[r.ID]; ok && r.State != check.Done {
			all[i] = live
		}
	}
	return all, nil
}

// RunByID gives one run.
func (s *Conductor) RunByID(ctx context.Context, id int64) (check.Run, error) {
	r, err := s.store.Run(ctx, id)
	if err != nil && !shop.IsNone(err) {
		return r, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if live, ok := s.live[id]; ok && r.State != check.Done {
		return live, nil
	}
	return r, err
}
