package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/handover"
	"hylostat.example/internal/shop"
)

func standingOf(s check.Standing) contract.SweepStanding {
	out := contract.SweepStanding{
		Share:      s.Share,
		Lba:        int64(s.LBA),
		Sectors:    int64(s.Geometry.Sectors),
		Logical:    int(s.Geometry.Logical),
		Physical:   int(s.Geometry.Physical),
		Unreadable: int64(s.Unreadable),
		Other:      int64(s.Other),
		Slow:       int64(s.Slow),
		Confirmed:  int64(s.Confirmed),
		Speed:      s.Speed,
		LeftS:      int(s.Left.Seconds()),
		Closer:     s.Closer,
		Celsius:    s.Celsius,
		Hottest:    s.Hottest,
		HotAt:      s.HotAt,
		Early:      saying(s.Early),
		Held:       s.Held,
		Words:      each(s.Says(wording.Phrase{}), said),
	}
	if s.Geometry.RPM > 0 {
		rpm := int(s.Geometry.RPM)
		out.Rpm = &rpm
	}
	out.Lost = optional(int64(s.Lost))
	if w := s.Written; w != nil {
		out.Written = &contract.Written{
			Sectors:  int64(w.Sectors),
			Cleared:  int64(w.Cleared),
			Readable: int64(w.Readable),
			Restored: int64(w.Restored),
		}
	}
	if s.Sample != nil {
		sample := true
		out.Sample = &sample
	}
	return out
}

func sweepSummaryOf(s shop.Sweep) contract.SweepSummary {
	out := contract.SweepSummary{
		Run:      s.Run,
		Kind:     contract.SweepSummaryKind(s.Kind),
		Title:    s.Kind.Title(),
		Began:    s.Began,
		Ended:    when(s.Ended),
		Standing: standingOf(s.Standing),
	}
	if s.Hours >= 0 {
		out.Hours = &s.Hours
	}
	return out
}

// mostRanges is how many ranges are served; how many there are is always told.
const mostRanges = 1000

func sweepOf(serial string, s shop.Sweep, d check.Found) (contract.Sweep, error) {
	ribbon := surface.NewRibbon(s.Standing.Geometry)
	out := contract.Sweep{
		Run:         s.Run,
		Kind:        contract.SweepKind(s.Kind),
		Title:       s.Kind.Title(),
		Serial:      serial,
		Began:       s.Began,
		Ended:       when(s.Ended),
		Standing:    standingOf(s.Standing),
		Cells:       len(ribbon.Cells()),
		RangesTotal: int64(len(d.Ranges)) + int64(s.Missed),
		Ranges: each(d.Ranges[:min(len(d.Ranges), mostRanges)], func(r surface.Range) contract.SweepRange {
			return contract.SweepRange{
				Lba:        int64(r.LBA),
				Sectors:    int64(r.Sectors),
				Physical:   int64(s.Standing.Geometry.CountPhysical(r.Extent)),
				Cause:      r.Cause.String(),
				Unreadable: r.Cause.Unreadable(),
			}
		}),
		Slow: each(d.Slow[:min(len(d.Slow), mostRanges)], func(p surface.Slow) contract.SweepSlow { return slowOf(p, s.Once) }),
		Heat: each(d.Heat, func(h check.Heat) contract.SweepHeat {
			return contract.SweepHeat{At: h.At, Share: h.Share, Celsius: h.Celsius}
		}),
	}
	out.Standing.Words = each(s.Standing.Says(s.Once), said)
	var err error
	out.Segments, err = segmentsOf(ribbon, d.Blocks)
	return out, err
}

func slowOf(s surface.Slow, once wording.Phrase) contract.SweepSlow {
	if once.IsZero() {
		once = wording.Say(wording.OnceUnknown)
	}
	out := contract.SweepSlow{
		Lba:     int64(s.LBA),
		Sectors: int64(s.Sectors),
		Class:   int(s.Class),
		Words:   said(wording.Say(wording.PlaceToRead)),
	}
	if s.Read {
		again := int(s.Again)
		out.Again, out.Words = &again, said(wording.Say(wording.PlaceSlowOnce, wording.Values{"why": once}))
		if s.Confirmed() {
			out.Words = said(wording.Say(wording.PlaceSlowTwice))
		}
	}
	return out
}

// segmentsOf turns packed blocks into rows of cells.
func segmentsOf(ribbon *surface.Ribbon, blocks []check.Block) ([]contract.RibbonSegment, error) {
	all := make([]contract.RibbonSegment, 0, len(blocks))
	for _, b := range blocks {
		if err := ribbon.UnpackBlock(b.Number, b.Cells); err != nil {
			return nil, err
		}
		cells := ribbon.Block(b.Number)
		s := contract.RibbonSegment{
			First:  b.Number * surface.BlockCells,
			Speeds: make([]int, len(cells)),
			Unread: []contract.RibbonUnread{},
		}
		var classes strings.Builder
		for i, c := range cells {
			s.Speeds[i] = int(c.Speed() / 1000)
			if c.Unread > 0 {
				s.Unread = append(s.Unread, contract.RibbonUnread{Cell: s.First + i, Sectors: int64(c.Unread)})
			}
			if c.Swept() {
				classes.WriteByte('0' + c.Worst)
			} else {
				classes.WriteByte('-')
			}
		}
		s.Classes = classes.String()
		all = append(all, s)
	}
	return all, nil
}

func sweepDifferenceOf(d surface.Difference) contract.SweepDifference {
	words := func(c surface.Cause, slow uint8) string {
		if c == surface.Whole && slow > 0 {
			return fmt.Sprintf("slow, class %d", slow)
		}
		return c.String()
	}
	return contract.SweepDifference{
		Lba: int64(d.LBA), Sectors: int64(d.Sectors), Change: contract.SweepDifferenceChange(d.Change),
		Before: words(d.Before, d.SlowBefore), After: words(d.After, d.SlowAfter),
	}
}

// FollowRun serves how a run stands: at once what is known, then what changes. It ends with the run.
func (h *handlers) FollowRun(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := strconv.ParseInt(c.Param("run"), 10, 64)
	if err != nil || id < 1 {
		return &shop.NotFound{What: fmt.Sprintf("there is no run %q", c.Param("run")), Advice: "List the runs."}
	}
	w := http.NewResponseController(c.Response())
	run, changes, err := h.shop.Follow(ctx, id)
	if err != nil {
		return err
	}
	geometry := surface.Geometry{}
	var blocks []check.Block
	if sweep, detail, err := h.shop.SweepOf(ctx, id); err == nil {
		geometry, blocks = sweep.Standing.Geometry, detail.Blocks
	}
	head := c.Response().Header()
	head.Set("Content-Type", "text/event-stream")
	head.Set("Cache-Control", "no-store")
	c.Response().WriteHeader(http.StatusOK)
	send := func(kind string, run check.Run, blocks []check.Block) error {
		live := contract.Live{Run: runOf(run), Segments: []contract.RibbonSegment{}}
		for i := range run.Steps {
			if s := run.Steps[i].Standing; s != nil {
				geometry = s.Geometry
			}
		}
		if len(blocks) > 0 {
			var err error
			if live.Segments, err = segmentsOf(surface.NewRibbon(geometry), blocks); err != nil {
				return err
			}
		}
		body, err := json.Marshal(live)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(c.Response(), "event: %s\ndata: %s\n\n", kind, body); err != nil {
			return err
		}
		_ = w.Flush()
		return nil
	}
	if send("snapshot", run, blocks) != nil || run.State == check.Done {
		return nil
	}
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	people := h.access.Changes()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-people: // somebody was removed, or signed out
			if people = h.access.Changes(); !h.still(c.Request()) {
				return nil
			}
		case <-tick.C:
			if !h.still(c.Request()) { // its session is over
				return nil
			}
			if _, err := fmt.Fprint(c.Response(), ": still here\n\n"); err != nil {
				return nil
			}
			_ = w.Flush() // a lost connection ends the request's context
		case p, open := <-changes:
			if !open { // fell behind: it comes back and begins with a snapshot
				return nil
			}
			kind := "change"
			if p.Whole {
				kind = "snapshot"
			}
			if send(kind, p.Run, p.Blocks) != nil || p.Run.State == check.Done {
				return nil
			}
		}
	}
}

// sweep finds a run and what its sweep found.
func (h *handlers) sweep(ctx context.Context, id int64) (run check.Run, one shop.Sweep, found check.Found, err error) {
	if run, err = h.shop.RunByID(ctx, id); err != nil {
		return run, one, found, err
	}
	one, found, err = h.shop.SweepOf(ctx, id)
	return run, one, found, err
}

func (h *handlers) GetSweep(ctx context.Context, r server.GetSweepRequestObject) (server.GetSweepResponseObject, error) {
	run, one, detail, err := h.sweep(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	out, err := sweepOf(run.Key.Serial, one, detail)
	return server.GetSweep200JSONResponse(out), err
}

func (h *handlers) DrawSweep(ctx context.Context, r server.DrawSweepRequestObject) (server.DrawSweepResponseObject, error) {
	run, one, detail, err := h.sweep(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	format := handover.SVG
	if r.Params.Format != nil {
		format = handover.Format(*r.Params.Format)
	}
	var b bytes.Buffer
	if err := handover.SweepFigure(&b, format, run.Key.Serial, one, detail); err != nil {
		return nil, err
	}
	if format == handover.PNG {
		return server.DrawSweep200ImagepngResponse{Body: &b, ContentLength: int64(b.Len())}, nil
	}
	return server.DrawSweep200ImagesvgXmlResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

func (h *handlers) CompareSweeps(ctx context.Context, r server.CompareSweepsRequestObject) (server.CompareSweepsResponseObject, error) {
	all, err := h.shop.CompareSweeps(ctx, r.Params.Earlier, r.Run)
	return server.CompareSweeps200JSONResponse(each(all, sweepDifferenceOf)), err
}

func (h *handlers) ListSweeps(ctx context.Context, r server.ListSweepsRequestObject) (server.ListSweepsResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	all, err := h.shop.Sweeps(ctx, d)
	return server.ListSweeps200JSONResponse(each(all, sweepSummaryOf)), err
}
