package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"syscall"
	"time"

	"hylostat.example/internal/access"
	"hylostat.example/internal/backup"
	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/cli"
	"hylostat.example/internal/demo"
	"hylostat.example/internal/notify"
	"hylostat.example/internal/protocol/wire"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
)

// Main runs the command line and gives the exit code.
func Main(args []string) int {
	if len(args) == 3 && args[1] == besideWord {
		return runBeside(args[2])
	}
	if code, ok := helper(args); ok {
		return code
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	command := cli.New(cli.Starters{
		Version: Version, Serve: serve, Demo: startDemo, CreateShop: CreateShop, Bench: serveBench, CreateBench: createBench,
		Recover: recoverPerson, Rejoin: rejoin,
		Capture: capture, Backup: makeBackup, Restore: restore, Examine: examineShop,
	})
	err := cli.Run(ctx, command, args)
	if err != nil {
		cli.Report(os.Stderr, command.Bool("json"), err)
	}
	return cli.Code(err)
}

// How a process logs, in its environment, so that those it starts log alike.
const (
	logLevel  = "HYLOSTAT_LOG_LEVEL"
	logFormat = "HYLOSTAT_LOG_FORMAT"
)

// logger logs as the environment says; what that says has been looked at.
func logger(w io.Writer) *slog.Logger {
	o := &slog.HandlerOptions{}
	var level slog.Level
	if err := level.UnmarshalText([]byte(os.Getenv(logLevel))); err == nil {
		o.Level = level
	}
	if os.Getenv(logFormat) == "json" {
		return slog.New(slog.NewJSONHandler(w, o))
	}
	return slog.New(slog.NewTextHandler(w, o))
}

// logAs gives the logger of a service, and has the processes it starts log alike.
func logAs(l cli.Log) (*slog.Logger, error) {
	err := errors.Join(os.Setenv(logLevel, l.Level), os.Setenv(logFormat, l.Format))
	return logger(os.Stderr), err
}

// untilInterrupted ends with Ctrl-C, too.
func untilInterrupted(ctx context.Context) (context.Context, context.CancelFunc) {
	return signal.NotifyContext(ctx, syscall.SIGINT)
}

// softLimit is how much memory the collector tries to stay within, when a crowd asks at once. It is no bound: what is in use stays.
const softLimit = 200 << 20

// Settle prepares the process of a service.
func Settle(ctx context.Context) {
	go shed(ctx)
	keepToUs()                         // what it writes is nobody else's, whichever library does
	if os.Getenv("GOMEMLIMIT") == "" { // nobody says otherwise
		debug.SetMemoryLimit(softLimit)
	}
}

func serve(ctx context.Context, o cli.ServeOptions) error {
	ctx, stop := untilInterrupted(ctx)
	defer stop()
	Settle(ctx)
	if o.Create { // and nothing that is given at every start
		if err := CreateShop(ctx, o.Dir, "", ""); err != nil {
			return err
		}
	}
	log, err := logAs(o.Log)
	if err != nil {
		return err
	}
	users, err := wire.UsersOf(o.BenchUsers...)
	if err != nil {
		return err
	}
	return Serve(ctx, Options{
		Dir:    o.Dir,
		Socket: o.BenchSocket, BenchUsers: users,
		Listen:  o.Listen,
		Hosts:   o.Hosts,
		Shop:    o.Shop,
		Bench:   o.Bench,
		Factor:  1,
		Apart:   &Apart{Images: o.Images},
		Clock:   device.Wall{},
		Rework:  o.Rework,
		Rejoin:  o.Rejoin,
		Backup:  o.Backup,
		Replica: o.Replica,
		TLS:     TLS{o.TLSCert, o.TLSKey, o.TLSOwn}, Proxies: o.Proxies, Base: o.Base,
		Log:   log,
		Ready: func(address string) { fmt.Printf("Hylostat serves %s at %s\nRecords in %s\n", o.Shop, address, o.Dir) },

		Damaged: sayDamaged,
	})
}

func sayDamaged(address string) {
	fmt.Printf("The records are damaged, and nothing is served. What to do stands at %s\n", address)
}

func startDemo(ctx context.Context, o cli.ServeOptions) error {
	ctx, stop := untilInterrupted(ctx)
	defer stop()
	Settle(ctx)
	if o.Dir == "" {
		dir, err := os.MkdirTemp("", "hylostat-demo-")
		if err != nil {
			return fmt.Errorf("making a temporary folder: %w. Choose one with --data", err)
		}
		o.Dir = dir
	}
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return fmt.Errorf("making the demo's folder: %w. Choose another with --data", err)
	}
	log, err := logAs(o.Log)
	if err != nil {
		return err
	}
	d, err := demo.New(o.Dir, o.Factor)
	if err != nil {
		return err
	}
	options := Demo(o.Dir, d)
	options.Clock, options.Apart = d.Source.Clock(), &Apart{Demo: o.Dir}
	for i := range options.Others {
		options.Others[i].Apart = options.Apart
	}
	options.Listen, options.Rejoin, options.Replica, options.Log = o.Listen, o.Rejoin, o.Replica, log
	var s *whole.Shop
	var records *store.Store
	open := options.Opened
	options.Opened = func(ctx context.Context, opened *whole.Shop, st *store.Store) error {
		s, records = opened, st
		return open(ctx, opened, st)
	}
	options.Damaged = sayDamaged
	options.Ready = func(address string) {
		fmt.Printf(
			"The shop %s is open at %s\nIts time runs %.0f times faster; its records are in %s\n"+
				"What it tells of its alerts is shown at %s\n"+
				"End it with Ctrl-C.\n", demo.ShopName, address, d.Factor(), o.Dir, d.Post.Page,
		)
		if err := d.Tell(ctx, records, notify.NewVault(o.Dir), address); err != nil {
			log.Warn("links in what the demo tells lead nowhere", "error", err)
		}
		go d.AttendSoon(ctx, s)
	}
	return Serve(ctx, options)
}

// CreateShop makes a shop in a folder that has none; with a lead, it is closed.
func CreateShop(ctx context.Context, dir, lead, password string) (err error) {
	lock, err := lockDir(dir)
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	path := filepath.Join(dir, "shop.db")
	if _, err := os.Stat(path); err == nil {
		return fmt.Errorf("there is a shop in %s already; nothing was changed. Serve it without --create", dir)
	}
	st, err := openShop(ctx, Options{Dir: dir, Create: true})
	if err != nil {
		return err
	}
	defer func() {
		err = errors.Join(err, st.Close())
		if err != nil { // half a shop is none
			_ = os.Remove(path)
		}
	}()
	if lead == "" {
		return nil
	}
	by := access.Actor{Name: lead, Via: access.OnTheMachine}
	_, _, err = access.New(st, time.Now, slog.New(slog.DiscardHandler)).Enter(
		ctx, by, access.Change{Name: lead, Role: access.Lead, Password: password},
	)
	return err
}

// aside changes the records of a shop that no service uses. Whoever does is often root, and whoever serves is not: the files stay the
// service's.
func aside(ctx context.Context, dir string, change func(ctx context.Context, st *store.Store) error) (err error) {
	if _, err := os.Stat(filepath.Join(dir, "shop.db")); err != nil {
		return fmt.Errorf("there is no shop in %s: %w. Name its folder with --data", dir, err)
	}
	lock, err := lockDir(dir)
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	st, err := openShop(ctx, Options{Dir: dir})
	if err != nil {
		return err
	}
	err = errors.Join(change(ctx, st), st.Close())
	for _, file := range []string{"shop.db", "shop.db-wal", "shop.db-shm", "lock"} {
		path := filepath.Join(dir, file)
		if _, missing := os.Stat(path); missing == nil {
			err = errors.Join(err, backup.GiveTo(path, dir))
		}
	}
	return err
}

// recoverPerson gives somebody a new password in the records themselves.
func recoverPerson(ctx context.Context, dir, name, password string) error {
	if os.Geteuid() != 0 {
		return errors.New("recovering somebody's access is for root, on the service's machine: try with sudo")
	}
	return aside(ctx, dir, func(ctx context.Context, st *store.Store) error {
		by := access.Actor{Name: cmp.Or(os.Getenv("SUDO_USER"), "root"), Via: access.OnTheMachine}
		return access.New(st, time.Now, slog.New(slog.DiscardHandler)).Recover(ctx, by, name, password)
	})
}

// rejoin has the service go on, at its next start, with benches as they are.
func rejoin(ctx context.Context, dir string) error {
	return aside(ctx, dir, func(ctx context.Context, st *store.Store) error { return st.SetBroughtBack(ctx, true) })
}

// Demo is how the demo's shop is served, with its records in a folder.
func Demo(dir string, d *demo.Demo) Options {
	return Options{
		Dir: dir, Create: true, Shop: demo.ShopName, Bench: demo.BenchName, Factor: d.Factor(), Source: d.Source, Rework: true,
		Others: []Bench{{Name: demo.FieldName, Title: demo.FieldTitle, Factor: d.Factor(), Source: d.Field}},
		Opened: func(ctx context.Context, _ *whole.Shop, st *store.Store) error {
			if err := d.Seed(ctx, st); err != nil {
				return err
			}
			return d.Tell(ctx, st, notify.NewVault(dir), "")
		},
	}
}
