package app

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync/atomic"
	"time"

	"hylostat.example/internal/api"
	"hylostat.example/internal/backup"
	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/diskspace"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/store"
)

// When the disk of the records is said to be nearly full, and when the service is not ready any more for that.
const (
	lowShare  = 0.05 // of the disk
	lowBytes  = 1 << 30
	fullBytes = 50 << 20
	diskEvery = time.Minute
)

// When backups are late: none was made for so many intervals, and the service has had the time to make one.
const (
	lateBackups  = 2
	backupsEvery = 5 * time.Minute // is asked
	backupTakes  = 10 * time.Minute
)

// behindAt is how far a replica may be behind before that is told.
const behindAt = time.Minute

var errFull, errBehind, errAway = errors.New("no room"), errors.New("behind"), errors.New("away")

// health is what is known of what the service needs.
type health struct {
	dir     string
	store   *store.Store
	looked  []examined
	replica *backup.Replica // nil: none
	benches func() []fleet.Standing
	low     atomic.Bool // little room is left
	backup  backup.Plan // that is to be made by itself; the zero one: none
	began   time.Time   // to serve

	last, asked time.Time // when the newest backup was made, and when that was asked; alerts' alone
}

// room tells how many bytes are free on the disk of the records, and whether that is little.
func (h *health) room() (free int64, low bool, err error) {
	free, size, err := diskspace.Of(h.dir)
	if err != nil {
		return 0, false, fmt.Errorf("asking for the room on the disk of %s: %w", h.dir, err)
	}
	few := min(int64(float64(size)*lowShare), lowBytes)
	return free, free < few, nil
}

// watchDisk says in the log when the disk of the records gets full, and when there is room again, until the context ends.
func (h *health) watchDisk(ctx context.Context, log *slog.Logger) {
	for {
		free, low, err := h.room()
		switch was := h.low.Load(); {
		case err != nil:
			log.Error("looking at the disk", "error", err)
		case low && !was:
			log.Warn("the disk of the records is nearly full: make room before nothing can be recorded", "free MB", free/1e6)
		case was && !low:
			log.Info("the disk of the records has room again", "free MB", free/1e6)
		}
		if err == nil {
			h.low.Store(low)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(diskEvery):
		}
	}
}

// alerts are looks at what the service needs, for those who are told of alerts.
func (h *health) alerts(now time.Time) (all []alert.Seen) {
	see := func(kind alert.Kind, is bool, severity alert.Severity, said wording.Phrase) {
		all = append(all, alert.Seen{Thing: alert.Thing{Kind: kind}, At: now, Over: !is, Level: 1, Severity: severity, Said: said})
	}
	if free, low, err := h.room(); err == nil {
		loud := alert.Now
		if free < fullBytes {
			loud = alert.Wake
		}
		see(alert.DiskFull, low, loud, wording.Say(wording.AlertDisk, wording.Values{"mb": free / 1e6}))
	}
	if h.backup.Folder != "" {
		if time.Since(h.asked) > backupsEvery {
			h.last, h.asked = h.backup.Last(context.Background(), h.dir), time.Now()
		}
		last := h.last
		since, said := last, wording.Say(wording.AlertBackup, wording.Values{"at": last.Format(time.RFC3339)})
		if last.IsZero() {
			since, said = h.began, wording.Say(wording.AlertNoBackup)
		}
		late := time.Since(since) > lateBackups*h.backup.Every && time.Since(h.began) > backupTakes
		see(alert.BackupLate, late, alert.Now, said)
	}
	if h.replica != nil {
		behind := h.replica.Behind(time.Now())
		see(alert.ReplicaLate, behind > behindAt, alert.Now, wording.Say(wording.AlertReplica, wording.Values{"s": int(behind.Seconds())}))
	}
	return all
}

// warning is what people at the console should know; empty: nothing.
func (h *health) warning() string {
	var all []string
	for _, b := range h.benches() {
		switch {
		case b.Away && b.Why != "":
			all = append(all, fmt.Sprintf("Not working for this shop: %s: %s", b.Title, strings.TrimSuffix(b.Why, ".")))
		case b.Away:
			all = append(all, fmt.Sprintf("Not connected: %s. Its bays stand here as they stood", b.Title))
		}
	}
	if free, low, err := h.room(); err == nil && low {
		all = append(
			all, fmt.Sprintf("The disk of the records is nearly full: %d MB are left. Make room before nothing can be recorded", free/1e6),
		)
	}
	return strings.Join(all, ". ")
}

// ready tells what the service needs, and whether it is so.
func (h *health) ready(ctx context.Context) []api.Check {
	says := func(name string, err error, words string) api.Check { // whoever asks is nobody in particular: no paths, no causes
		if err != nil {
			return api.Check{Name: name, Says: words}
		}
		return api.Check{Name: name, OK: true}
	}
	_, asked := h.store.ShopID(ctx)
	all := []api.Check{
		says("records", damaged(h.looked), "a database is damaged; the log says which"), says("database", asked, "it does not answer"),
	}
	free, _, err := h.room()
	if err == nil && free < fullBytes {
		err = errFull
	}
	all = append(all, says("disk", err, "there is no room left for the records"))
	for _, b := range h.benches() {
		var away error
		if b.Away {
			away = errAway
		}
		all = append(all, says(strings.TrimSpace("bench "+b.Name), away, "it is not connected"))
	}
	if h.replica != nil {
		var late error
		behind := h.replica.Behind(time.Now())
		if behind > behindAt {
			late = errBehind
		}
		all = append(all, says("replica", late, fmt.Sprintf("what was written in the last %s is not copied", behind.Round(time.Second))))
	}
	return all
}
