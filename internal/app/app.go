// Package app wires the rooms together: it is the only one that knows them all. Start with Serve.
package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"
	_ "time/tzdata" // the zones of the watch, where the machine has none

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/gofrs/flock"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api"
	"hylostat.example/internal/backup"
	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/bench/sweep"
	"hylostat.example/internal/certify"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/metrics"
	"hylostat.example/internal/notify"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/protocol/wire"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/sqlite"
	"hylostat.example/internal/store"
)

// Version is the program's version.
const Version = "0.1.0"

// Options say what to serve.
type Options struct {
	Dir    string // where the databases are
	Listen string // host:port
	Hosts  []string
	Shop   string
	Bench  string  // what people call the shop's own bench
	Factor float64 // of the source's time
	Source device.Source
	Rework bool       // the bench's own consent that drives are written to
	Feed   sweep.Feed // how the bench finds out how many sweeps it feeds
	Apart  *Apart     // the bench runs in a process of its own, and has no Source here
	Clock  shop.Clock // the shop's; nil: the source's
	// Socket is where a bench that somebody else starts is waited for, in place of one started here; the users who may are BenchUsers.
	Socket     string
	BenchUsers wire.Users
	Others     []Bench // benches in the same process beside the shop's own
	Create     bool    // make a shop where there is none
	Rejoin     bool    // go on with databases that are not of the same past
	Backup     backup.Plan
	TLS        TLS
	Proxies    []netip.Prefix // whose word for where a request comes from counts
	Base       string         // the path below which a proxy has the service
	Replica    string         // where what is written is copied to as it is; empty: nowhere
	Log        *slog.Logger
	Gates      []sqlite.Gate // at every commit of every database
	// Opened is called when the store is open and before anything runs; the demo fills the store here.
	Opened func(ctx context.Context, s *whole.Shop, st *store.Store) error
	// Ready is called with the address when requests are answered.
	Ready func(address string)
	// Damaged is called in place of Ready when a database is damaged, and every request is answered with that.
	Damaged func(address string)
}

// TLS is how the service speaks it: by files, or by the shop's own authority. The zero TLS: it does not.
type TLS struct {
	Cert, Key string
	Own       bool
}

// clock is the shop's time.
func (o *Options) clock() shop.Clock {
	if o.Clock != nil {
		return o.Clock
	}
	return o.Source.Clock()
}

// benches gives the benches that this service starts, their journals seen to be there, and all those it is to have.
func (o *Options) benches(ctx context.Context, st *store.Store) (started []*local, expected []protocol.Description, err error) {
	own := Bench{Title: o.Bench, Factor: o.Factor, Source: o.Source, Rework: o.Rework, Feed: o.Feed, Apart: o.Apart}
	for i, one := range append([]Bench{own}, o.Others...) {
		expected = append(expected, protocol.Description{Name: one.Name, Title: one.Title, Factor: one.Factor, Rework: one.Rework})
		if i == 0 && o.Socket != "" {
			continue
		}
		known, err := fleet.Knows(ctx, st, one.Name)
		if err != nil {
			return started, expected, err
		}
		how := sqlite.How{Kept: known && !o.Rejoin, WithoutLog: o.Rejoin, Gates: o.Gates, Examined: examineFor}
		l := &local{Bench: one, dir: filepath.Join(o.Dir, one.Name), how: how, log: o.Log}
		started = append(started, l)
		err = l.open(ctx)
		if lost, ok := errors.AsType[*sqlite.MissingError](err); ok {
			return started, expected, fleet.Lost(one.Title, lost.What())
		}
		if err != nil {
			return started, expected, rejoinable(err)
		}
	}
	return started, expected, nil
}

// Serve runs the service until the context ends.
func Serve(ctx context.Context, o Options) (err error) {
	lock, err := lockDir(o.Dir)
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	st, err := openShop(ctx, o)
	if damaged, ok := errors.AsType[*sqlite.DamagedError](err); ok {
		return serveDamage(ctx, o, damaged)
	}
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	looked := []examined{st}
	people := access.New(st, time.Now, o.Log)
	if err := alone(ctx, people, o.Listen); err != nil {
		return err
	}
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", o.Listen)
	if err != nil {
		return notListening(o.Listen, err)
	}
	defer func() { _ = listener.Close() }()
	benches, expected, err := o.benches(ctx, st)
	defer func() {
		for _, l := range benches {
			err = errors.Join(err, l.end())
		}
	}()
	if damaged, ok := errors.AsType[*sqlite.DamagedError](err); ok {
		_ = listener.Close()
		return serveDamage(ctx, o, damaged)
	}
	if err != nil {
		return err
	}
	for _, l := range benches {
		looked = append(looked, l)
	}
	health := &health{dir: o.Dir, store: st, looked: looked, backup: o.Backup, began: time.Now()}
	if o.Replica != "" {
		replica, wrong := backup.Replicate(ctx, o.Dir, o.Replica, o.Log)
		if wrong != nil {
			return wrong
		}
		defer func() { err = errors.Join(err, replica.Close()) }()
		health.replica = replica
		st.TruncateBy(func(ctx context.Context) error { return replica.EmptyLog(ctx, "shop.db") })
	}
	together, err := fleet.New(o.Log, expected...)
	if err != nil {
		return err
	}
	health.benches = together.Benches
	for _, l := range benches {
		if err := l.start(ctx); err != nil {
			return err
		}
		if err := together.Join(ctx, st, l.bench, o.Rejoin); err != nil {
			return err
		}
	}
	storage := st.Storage()
	storage.Senders, storage.Vault = notify.Senders(Version), notify.NewVault(o.Dir)
	s, err := whole.New(ctx, o.Shop, storage, together, policy.Default, o.clock(), o.Log)
	if err != nil {
		return err
	}
	s.Around(health.alerts)
	if o.Opened != nil {
		if err := o.Opened(ctx, s, st); err != nil {
			return err
		}
	}
	if back, err := st.BroughtBack(ctx); err != nil {
		return err
	} else if back {
		together.BroughtBack()
	}
	if err := broughtBack(ctx, s, st, people); err != nil {
		return err
	}
	if err := standsBack(ctx, s, o.clock().Now()); err != nil {
		return err
	}
	figures := metrics.New(s, st, o.Dir, Version, o.Log)
	s.Own.Go(func() { figures.Count(ctx) })
	handler, err := api.New(api.Options{
		Metrics: figures,
		Shop:    s, Access: people, Version: Version, Hosts: o.Hosts, Log: o.Log, Damaged: func() error { return damaged(looked) },
		Proxies: o.Proxies, Base: o.Base, Ready: health.ready, Warning: health.warning,
	})
	if err != nil {
		return err
	}
	s.Own.Go(func() { examineBehind(ctx, looked, s, o.Log) })
	s.Own.Go(func() { health.watchDisk(ctx, o.Log) })
	s.Own.Go(func() { tellHead(ctx, s, o.Log) })
	if o.Backup.Folder != "" {
		s.Own.Go(func() { o.Backup.Run(ctx, o.Dir, Version, o.Log) })
	}
	web, err := webServer(ctx, o, handler)
	if err != nil {
		return err
	}
	r := &reception{together: together, store: st, shop: s, log: o.Log}
	r.anew.Store(o.Rejoin)
	if o.Socket != "" {
		if r.socket, err = wire.Listen(o.Socket, o.BenchUsers); err != nil {
			return err
		}
	}
	return run(ctx, o, listener, web, benches, r)
}

// broughtBack does what follows when the records were brought back from a copy: what was ended since, nobody knows, and it ends again.
func broughtBack(ctx context.Context, s *whole.Shop, st *store.Store, people *access.Access) error {
	back, err := st.BroughtBack(ctx)
	if err != nil || !back {
		return err
	}
	last, err := s.LastTime(ctx)
	if err != nil {
		return err
	}
	if err := people.EndSessions(ctx); err != nil {
		return err
	}
	if err := s.BroughtBack(ctx, last); err != nil {
		return err
	}
	return st.SetBroughtBack(ctx, false) // at last: should this be interrupted, it is done again
}

// openShop opens the shop's database. A folder without one is not taken for a new shop, unless that is what is wanted; and never one in
// which a bench has worked before.
func openShop(ctx context.Context, o Options) (*store.Store, error) {
	path := filepath.Join(o.Dir, "shop.db")
	how := sqlite.How{Kept: !o.Create, WithoutLog: o.Rejoin, Gates: o.Gates, Examined: examineFor}
	worked := "" // the journal of a bench that worked for a shop that was here
	for _, place := range []string{"bench.db", filepath.Join("*", "bench.db")} {
		if found, _ := filepath.Glob(filepath.Join(o.Dir, place)); len(found) > 0 {
			worked, how.Kept = found[0], !o.Rejoin
		}
	}
	st, err := store.OpenHow(ctx, path, how)
	missing, ok := errors.AsType[*sqlite.MissingError](err)
	switch {
	case ok && worked != "":
		return nil, rejoinable(fmt.Errorf("%s worked for a shop, and that is not here: %w", worked, err))
	case ok && !missing.Empty && !missing.WithLog:
		return nil, fmt.Errorf(
			"there is no shop in %s. Make one with \"hylostat shop create --data %s\", or name the folder of yours", o.Dir, o.Dir,
		)
	}
	return st, rejoinable(err)
}

// rejoinable adds what helps when something was lost for good.
func rejoinable(err error) error {
	_, missing := errors.AsType[*sqlite.MissingError](err)
	_, unlogged := errors.AsType[*sqlite.LogLostError](err)
	if missing || unlogged {
		return fmt.Errorf("%w. If it is lost for good: --rejoin goes on with what is left", err)
	}
	return err
}

// notListening says why an address cannot be listened on.
func notListening(address string, err error) error {
	if errors.Is(err, syscall.EADDRINUSE) {
		return fmt.Errorf(
			"somebody listens on %s already, perhaps another service: ask it with \"hylostat --service %s bay list\", end it, or choose "+
				"another address with --listen", address, address,
		)
	}
	return fmt.Errorf("listening on %s: %w. Choose another with --listen", address, errors.Unwrap(err))
}

// alone refuses to serve an open shop to other machines.
func alone(ctx context.Context, people *access.Access, listen string) error {
	open, err := people.Open(ctx)
	if err != nil || !open {
		return err
	}
	host, port, err := net.SplitHostPort(listen)
	if err != nil {
		return nil //nolint:nilerr // told where it is listened on
	}
	all, err := net.DefaultResolver.LookupIPAddr(ctx, host)
	if host != "" && err == nil && !slices.ContainsFunc(all, func(ip net.IPAddr) bool { return !ip.IP.IsLoopback() }) {
		return nil
	}
	return fmt.Errorf(
		"the shop is open: nobody is entered, and whoever reaches %s could do anything. Start it with --listen 127.0.0.1:%s and enter a "+
			"lead, or make a shop with \"hylostat shop create --lead NAME\"", listen, port,
	)
}

// webServer makes the server; with TLS, it has its certificates.
func webServer(ctx context.Context, o Options, handler http.Handler) (*http.Server, error) {
	web := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return ctx },
		ErrorLog:    slog.NewLogLogger(o.Log.Handler(), slog.LevelWarn),
	}
	var keeper *certify.Keeper
	var err error
	switch {
	case o.TLS.Cert != "":
		keeper, err = certify.Files(o.TLS.Cert, o.TLS.Key, time.Now, o.Log)
	case o.TLS.Own:
		keeper, err = certify.Own(filepath.Join(o.Dir, "tls"), o.Shop, ownNames(o), time.Now, o.Log)
	default:
		return web, nil
	}
	if err != nil {
		return nil, err
	}
	web.TLSConfig = keeper.Config()
	o.Log.Info("TLS", "fingerprint, SHA-256", keeper.Fingerprint())
	return web, nil
}

// ownNames are the names and addresses by which the service may be asked.
func ownNames(o Options) []string {
	names := append([]string{"localhost", "127.0.0.1", "::1"}, o.Hosts...)
	if host, _, err := net.SplitHostPort(o.Listen); err == nil && host != "" {
		names = append(names, host)
	}
	if name, err := os.Hostname(); err == nil {
		names = append(names, name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// tellManager tells the system's manager of services how this one is, if one started it.
func tellManager(log *slog.Logger, state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		log.Warn("telling the manager of services", "state", state, "error", err)
	}
}

// serveOn serves on a listener, by TLS where the server has certificates.
func serveOn(web *http.Server, listener net.Listener) error {
	if web.TLSConfig != nil {
		return web.ServeTLS(listener, "", "")
	}
	return web.Serve(listener)
}

// scheme is how the addresses of a server begin.
func scheme(web *http.Server) string {
	if web.TLSConfig != nil {
		return "https://"
	}
	return "http://"
}

// run keeps the parts going until the context ends or one of them fails; then all end.
func run(ctx context.Context, o Options, listener net.Listener, web *http.Server, benches []*local, r *reception) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	s := r.shop
	address := scheme(web) + listener.Addr().String() + o.Base // before it serves: http.Server gives itself a configuration of TLS then
	running := len(benches) + 3
	parts := make(chan error, running)
	for _, l := range benches {
		go func() {
			join := func(ctx context.Context, b protocol.Bench) error { return r.together.Join(ctx, r.store, b, false) }
			parts <- l.keep(ctx, join, s.Attend)
		}()
	}
	go func() { parts <- r.receive(ctx) }()
	go func() { parts <- s.Run(ctx) }()
	s.Own.Go(func() {
		watchClock(ctx, thisMachine(), func(by time.Duration) {
			if err := s.ClockMoved(ctx, by); err != nil && ctx.Err() == nil {
				o.Log.Error("noting that the clock moved", "error", err)
			}
		})
	})
	go func() {
		err := serveOn(web, listener)
		if errors.Is(err, http.ErrServerClosed) {
			err = nil
		}
		parts <- err
	}()
	o.Log.Info(
		"the service starts", "version", Version, "shop", o.Shop, "at", address, "records", o.Dir,
		"bench", cmp.Or(o.Socket, "its own"),
	)
	defer func() { o.Log.Info("the service has stopped") }()
	tellManager(o.Log, daemon.SdNotifyReady)
	defer tellManager(o.Log, daemon.SdNotifyStopping)
	if o.Ready != nil {
		o.Ready(address)
	}
	var failed error
	select {
	case <-ctx.Done():
	case failed = <-parts:
		running--
	}
	cancel(failed)
	ending, done := context.WithTimeout(context.WithoutCancel(ctx), ends+time.Second)
	defer done()
	if err := web.Shutdown(ending); err != nil {
		_ = web.Close()
	}
	for ; running > 0; running-- {
		select {
		case err := <-parts:
			failed = errors.Join(failed, err)
		case <-ending.Done():
			return errors.Join(failed, errors.New("a drive holds a command; ending without it"))
		}
	}
	return failed
}

// errLocked says that another process holds a lock.
var errLocked = errors.New("another process holds it")

// lockDir keeps two services from using one folder.
func lockDir(dir string) (*flock.Flock, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the data folder: %w. Choose another with --data", err)
	}
	f, err := lockFile(filepath.Join(dir, "lock"))
	if errors.Is(err, errLocked) {
		return nil, fmt.Errorf("another service uses %s. Stop it, or choose another folder with --data", dir)
	}
	if err != nil {
		return nil, fmt.Errorf("opening the data folder %s: %w. Choose another with --data", dir, err)
	}
	return f, nil
}

// lockFile opens a file and holds it until it is closed. The error is errLocked when another process does.
func lockFile(path string) (*flock.Flock, error) {
	f := flock.New(path, flock.SetPermissions(0o600))
	ok, err := f.TryLock()
	if err == nil && !ok {
		err = errLocked
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}
