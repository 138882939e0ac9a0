package app

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"slices"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/record"
)

// capture reads drives of this machine into a record file.
func capture(ctx context.Context, nodes []string, tell func(node, what string)) (record.File, []error) {
	host, err := os.Hostname()
	if err != nil {
		host = "a machine without a name"
	}
	source, err := thisMachinesDrives()
	if err != nil {
		return record.File{}, []error{err}
	}
	f, failed := captureFrom(ctx, source, host, nodes, tell)
	if len(f.Drives) == 0 {
		return f, failed
	}
	key, err := captureKey()
	if err == nil {
		err = f.Sign(key)
	}
	if err != nil { // what was read is worth more than who read it
		failed = append(failed, fmt.Errorf("the file is not signed: %w", err))
	}
	return f, failed
}

// captureFrom reads the named drives of a source, or all of them, once each: what fails is told and does not keep the
// others from being read.
func captureFrom(
	ctx context.Context, source device.Source, host string, nodes []string, tell func(node, what string),
) (record.File, []error) {
	f := record.New(source.Clock().Now())
	found, err := source.Look(ctx)
	if err != nil {
		return f, []error{err}
	}
	var failed []error
	for _, n := range nodes {
		if !slices.ContainsFunc(found, func(a drive.Attachment) bool { return a.Node == n }) {
			failed = append(failed, fmt.Errorf("there is no drive %s on this machine", n))
		}
	}
	for _, a := range found {
		if len(nodes) > 0 && !slices.Contains(nodes, a.Node) || ctx.Err() != nil {
			continue
		}
		key, r, fault := captureOne(ctx, source, a, host, tell)
		if fault != nil {
			tell(a.Node, "not read: "+fault.Error())
			failed = append(failed, fmt.Errorf("%s: %w", a.Node, fault))
			continue
		}
		if i := slices.IndexFunc(f.Drives, func(d record.Drive) bool { return d.Key() == key }); i >= 0 {
			tell(a.Node, "is "+f.Drives[i].Serial+" by another path")
			f.Drives[i].Readings = append(f.Drives[i].Readings, r)
			continue
		}
		f.Drives = append(f.Drives, record.Drive{Model: key.Model, Serial: key.Serial, Readings: []record.Reading{r}})
	}
	return f, failed
}

func captureOne(
	ctx context.Context, source device.Source, a drive.Attachment, host string, tell func(node, what string),
) (drive.Key, record.Reading, *drive.Fault) {
	d, err := source.Open(ctx, a)
	if err != nil {
		return drive.Key{}, record.Reading{}, device.FaultOf("opening "+a.Node, err)
	}
	defer func() { _ = d.Close() }()
	session, fault := probe.Open(d, probe.NotKnown)
	if fault != nil {
		return drive.Key{}, record.Reading{}, fault
	}
	session.Tell(func(page reading.PageName, done, of int) {
		tell(a.Node, fmt.Sprintf("page %d of %d: %s", done+1, of, page.Title()))
	})
	at, began := source.Clock().Now().UTC().Truncate(time.Millisecond), time.Now()
	pages := session.Pages(ctx, probe.Manner{Wake: true})
	key := probe.Key(pages)
	if !key.IsValid() {
		if fault = probe.FirstFault(pages); fault == nil {
			fault = &drive.Fault{Class: drive.FaultBadAnswer, What: "reading " + a.Node, Cause: "it does not name itself"}
		}
		return key, record.Reading{}, fault
	}
	tell(a.Node, fmt.Sprintf("%s, %d pages", key, len(pages)))
	return key, record.Reading{
		ID:     rand.Text(),
		At:     at,
		TookMs: time.Since(began).Milliseconds(),
		Tool:   Version,
		Place:  host + ", " + string(a.Address),
		Pages:  record.FromPages(pages),
	}, nil
}
