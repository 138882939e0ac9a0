package api

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"strconv"

	"hylostat.example/internal/api/server"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/handover"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
)

func featureOf(f drive.Feature) contract.Feature {
	return contract.Feature{Supported: f.Supported, Enabled: f.Enabled}
}

func driveOf(d shop.Drive) contract.Drive {
	id, l := d.Identity, listedOf(d.Listed())
	out := contract.Drive{
		Serial:         l.Serial,
		Model:          l.Model,
		Firmware:       text(id.Firmware),
		Interface:      contract.DriveInterface(l.Interface),
		Medium:         optional(contract.DriveMedium(id.Medium)),
		Bytes:          l.Bytes,
		LogicalSector:  optional(int(id.LogicalSector)),
		PhysicalSector: optional(int(id.PhysicalSector)),
		RotationRate:   optional(int(id.RotationRate)),
		FormFactor:     text(id.FormFactor),
		LinkNow:        text(id.LinkNow),
		LinkPossible:   text(id.LinkPossible),
		Namespaces:     optional(id.Namespaces),
		Hidden:         optional(int64(id.Hidden)),
		HiddenBy:       text(id.HiddenBy),
		Protection:     text(id.Protection),
		Transport:      text(id.Transport),
		Smart:          featureOf(id.SMART),
		SelfTest:       featureOf(id.SelfTest),
		Trim:           &id.TRIM.Supported,
		Security: contract.Security{
			Supported:    id.Security.Supported,
			Enabled:      id.Security.Enabled,
			Locked:       id.Security.Locked,
			Frozen:       id.Security.Frozen,
			CountExpired: id.Security.CountExpired,
		},
		Duty:        l.Duty,
		Grade:       l.Grade,
		Signed:      l.Signed,
		Headline:    l.Headline,
		Findings:    l.Findings,
		Margin:      l.Margin,
		MarginShare: l.MarginShare,
		Hours:       l.Hours,
		Temperature: l.Temperature,
		Readings:    l.Readings,
		FirstSeen:   d.FirstSeen,
		LastRead:    l.LastRead,
		Bay:         l.Bay,
	}
	if len(d.Now.OtherBays) > 0 {
		out.OtherBays = &d.Now.OtherBays
	}
	out.Wwn, out.Shown = text(string(id.WWN)), optional(int64(id.Shown))
	if id.Security.Locked {
		out.Security.By = optional(contract.SecurityBy(cmp.Or(id.Security.By, drive.LockPassword)))
	}
	if id.Security.Encrypting {
		out.Security.Encrypting = &id.Security.Encrypting
	}
	return out
}

func listedOf(d shop.Listed) contract.ListedDrive {
	n := d.Now
	out := contract.ListedDrive{
		Serial:    d.Key.Serial,
		Model:     d.Key.Model,
		Interface: contract.ListedDriveInterface(d.Interface),
		Medium:    optional(contract.ListedDriveMedium(d.Medium)),
		Bytes:     optional(int64(d.Bytes)),
		Duty:      contract.Duty(d.Duty),
		Grade:     contract.Grade(n.Grade.String()),
		Signed:    signOf(n.Signed, n.Grade),
		Headline:  text(n.First),
		Findings:  &n.Findings,
		Margin:    text(n.Margin),
		Readings:  n.Readings,
		Bay:       optional(n.Bay),
		Ticket:    text(d.Ticket), Customer: text(d.Customer),
	}
	if d.Interface == drive.InterfaceUnknown {
		out.Interface = contract.ListedUnknown
	}
	if n.Margin != "" {
		out.MarginShare = &n.MarginShare
	}
	if n.HasHours {
		out.Hours = &n.Hours
	}
	if n.HasTemp {
		out.Temperature = &n.Temperature
	}
	if n.Readings > 0 {
		out.LastRead = &n.LastAt
	}
	return out
}

func intakeOf(i shop.Intake) contract.Intake {
	out := contract.Intake{
		Id:        i.ID,
		Lot:       optional(i.Lot),
		Bay:       i.Bay,
		At:        i.At,
		By:        i.By,
		Ticket:    text(i.Ticket),
		Customer:  text(i.Customer),
		Reference: text(i.Reference),
		Language:  languageSaid(i.Language),
		Complaint: text(i.Complaint),
		Label:     text(i.Label),
		Made:      text(i.Made),
		Clicks:    optional(i.Clicks),
		CopiedAt:  when(i.CopiedAt),
		Wanted:    i.Wanted,
		Copied:    i.Copied,
		AtRisk:    i.AtRisk(),
		Duty:      contract.Duty(i.Duty),
	}
	if r := i.Release; r != nil {
		out.Release = &contract.Release{Scope: contract.ReworkKind(r.Scope), Owner: r.Owner, By: r.By, At: r.At}
	}
	if len(i.Tried) > 0 && i.Drive == 0 {
		bays := each(i.Tried, func(p shop.Port) drive.Bay { return p.Bay })
		out.Tried = &bays
	}
	if h := i.Handover; h != nil {
		out.Handover = &contract.Handover{
			Goes: contract.HandoverGoes(h.Goes),
			Data: contract.DataState(h.Data),
			Note: text(h.Note),
			By:   h.By,
			At:   h.At,
		}
	}
	return out
}

func entryOf(e desk.Entry) contract.Entry {
	out := contract.Entry{
		At:      e.At,
		Kind:    contract.EntryKind(e.Kind),
		Text:    said(e.Says),
		Run:     optional(e.Run),
		Reading: optional(e.Reading),
		Verdict: optional(e.Verdict),
	}
	if e.Hours >= 0 {
		out.Hours = &e.Hours
	}
	if e.Grade != nil {
		g := contract.Grade(e.Grade.String())
		out.Grade = &g
	}
	return out
}

func (h *handlers) ListDrives(ctx context.Context, r server.ListDrivesRequestObject) (server.ListDrivesResponseObject, error) {
	p := r.Params
	q, err := queryOf(p.Q, p.Grade, string(value(p.Medium)), p.Lot, p.FromHours, p.ToHours)
	if err != nil {
		return nil, err
	}
	if q.After, q.Limit = value(p.After), 200; p.Limit != nil {
		q.Limit = *p.Limit
	}
	last := func(d shop.Listed) string { return d.Key.Serial }
	if value(p.Sort) == contract.Urgency {
		q.Urgent, q.After = true, ""
		last = func(d shop.Listed) string { return strconv.FormatInt(d.ID, 10) }
		if after := value(p.After); after != "" {
			if q.Behind, err = strconv.ParseInt(after, 10, 64); err != nil {
				return nil, &shop.Invalid{
					What: fmt.Sprintf("after is %q", after), Advice: "By urgency, follow the next link of the page before.",
				}
			}
		}
	}
	all, err := h.shop.List(ctx, q)
	if err != nil {
		return nil, err
	}
	body := each(all, listedOf)
	badges, err := h.shop.Badges(ctx, each(all, func(d shop.Listed) int64 { return d.ID }))
	for i, d := range all {
		body[i].Alerts, body[i].Known = optional(badges[d.ID].Alerts), optional(badges[d.ID].Known)
	}
	return server.ListDrives200JSONResponse{
		Body: body, Headers: server.ListDrives200ResponseHeaders{Link: next(ctx, all, q.Limit, "after", last)},
	}, err
}

// queryOf is what a list and a table of drives are asked for.
func queryOf(text *string, grade *contract.Grade, medium string, lot *int64, from, to *int) (shop.Query, error) {
	q := shop.Query{Text: value(text), Medium: drive.Medium(medium), Lot: value(lot), From: value(from), To: value(to)}
	if grade != nil {
		g, err := drive.ParseGrade(string(*grade))
		if err != nil {
			return q, &shop.Invalid{What: err.Error(), Advice: "Choose one of them."}
		}
		q.Grade = &g
	}
	return q, nil
}

func (h *handlers) TableOfDrives(ctx context.Context, r server.TableOfDrivesRequestObject) (server.TableOfDrivesResponseObject, error) {
	p := r.Params
	q, err := queryOf(p.Q, p.Grade, string(value(p.Medium)), p.Lot, p.FromHours, p.ToHours)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	table := handover.NewDrivesCSV(&b)
	for more := true; more; {
		q.Limit = 500
		some, err := h.shop.Drives(ctx, q)
		if err != nil {
			return nil, err
		}
		for _, d := range some {
			if err := table.Add(d); err != nil {
				return nil, err
			}
			q.After = d.Identity.Serial
		}
		more = len(some) >= q.Limit
	}
	if err := table.End(); err != nil {
		return nil, err
	}
	return server.TableOfDrives200TextcsvResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

// TableOfSignals writes while it reads: nothing of it is held whole.
func (h *handlers) TableOfSignals(
	ctx context.Context, r server.TableOfSignalsRequestObject,
) (server.TableOfSignalsResponseObject, error) {
	p := r.Params
	q, err := queryOf(p.Q, p.Grade, string(value(p.Medium)), p.Lot, p.FromHours, p.ToHours)
	if err != nil {
		return nil, err
	}
	from, to := io.Pipe()
	csv := value(p.Format) == contract.AsCSV
	go func() {
		table := handover.NewSignalsParquet(to)
		if csv {
			table = handover.NewSignalsCSV(to)
		}
		err := h.shop.EachMoment(ctx, q, table.Add)
		if err == nil {
			err = table.End()
		}
		to.CloseWithError(err)
	}()
	context.AfterFunc(ctx, func() { _ = from.CloseWithError(ctx.Err()) })
	if csv {
		return server.TableOfSignals200TextcsvResponse{Body: from}, nil
	}
	return server.TableOfSignals200ApplicationvndApacheParquetResponse{Body: from}, nil
}

// detailed is a drive with its present intake.
func visitOf(v desk.Visit) *contract.LastVisit {
	out := contract.LastVisit{
		Until: v.Until, Text: said(v.Says()), Since: each(v.Since, func(c shop.Change) contract.Said { return said(desk.Moved(c)) }),
	}
	if v.Verdict != nil {
		out.Grade = optional(contract.Grade(v.Verdict.Stands().String()))
	}
	return &out
}

func (h *handlers) detailed(ctx context.Context, d shop.Drive) (contract.Drive, error) {
	out := driveOf(d)
	i, err := h.shop.Intake(ctx, d)
	if i != nil {
		intake := intakeOf(*i)
		out.Intake = &intake
	}
	if err != nil {
		return out, err
	}
	if v, err := h.shop.LastVisit(ctx, d); err != nil {
		return out, err
	} else if v != nil {
		out.LastVisit = visitOf(*v)
	}
	seen, err := h.shop.VolumesAt(ctx, d)
	out.VolumesAt = when(seen)
	return out, err
}

func (h *handlers) GetDrive(ctx context.Context, r server.GetDriveRequestObject) (server.GetDriveResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	out, err := h.detailed(ctx, d)
	return server.GetDrive200JSONResponse(out), err
}

func (h *handlers) ChangeDrive(ctx context.Context, r server.ChangeDriveRequestObject) (server.ChangeDriveResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	if err := h.shop.SetDuty(ctx, actor(ctx, value(r.Body.By)), d, drive.Duty(r.Body.Duty)); err != nil {
		return nil, err
	}
	if d, err = h.shop.FindDrive(ctx, d.Identity.Serial); err != nil {
		return nil, err
	}
	out, err := h.detailed(ctx, d)
	return server.ChangeDrive200JSONResponse(out), err
}

func (h *handlers) GetHistory(ctx context.Context, r server.GetHistoryRequestObject) (server.GetHistoryResponseObject, error) {
	d, err := h.shop.FindDrive(ctx, r.Drive)
	if err != nil {
		return nil, err
	}
	all, err := h.shop.History(ctx, d)
	return server.GetHistory200JSONResponse(each(all, entryOf)), err
}
