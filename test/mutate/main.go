// Command mutate tells how well the tests watch a room: it makes small random changes of its code, one at a time, and runs the tests
// that could notice. A change is a condition turned, a comparison or a constant moved by one, a statement or an error dropped. Nothing
// in the tree is written: the compiler is given the changed file as an overlay.
//
// Start at main; sites.go finds what can be changed, tests.go runs who could notice.
package main

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/signal"
	"regexp"
	"slices"
	"strings"
	"time"
)

func main() {
	n := flag.Int("n", 40, "how many changes are tried")
	seed := flag.Uint64("seed", uint64(time.Now().UnixNano()), "which ones; the same number tries the same again")
	tests := flag.String(
		"tests", "./cmd/... ./internal/... ./test/service/...", "whose tests are asked when those of the package itself notice nothing",
	)
	only := flag.String("only", "", "files whose path matches this regular expression; empty: all of the area's")
	limit := flag.Duration("timeout", 3*time.Minute, "after which a run of tests counts as noticing: the change hangs it")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if flag.NArg() == 0 {
		fmt.Fprintln(os.Stderr, "mutate: no area given. Name packages, as in: make mutate AREA=./internal/core/surface/...")
		os.Exit(2)
	}
	if err := run(ctx, *n, *seed, *only, strings.Fields(*tests), *limit, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, n int, seed uint64, only string, tests []string, limit time.Duration, areas []string) error {
	house, err := load(ctx, areas, tests)
	if err != nil {
		return err
	}
	wanted, err := regexp.Compile(only)
	if err != nil {
		return fmt.Errorf("-only: %w", err)
	}
	var all []site
	for _, p := range house.area {
		found, err := sitesOf(p)
		if err != nil {
			return err
		}
		all = append(all, slices.DeleteFunc(found, func(s site) bool { return !wanted.MatchString(s.where) })...)
	}
	fmt.Printf("%d places in %d packages; %d of them, seed %d\n", len(all), len(house.area), min(n, len(all)), seed)
	r := rand.New(rand.NewPCG(seed, 1))
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	tried, noticed := 0, 0
	slipped := map[string]int{}
	for _, s := range all {
		if tried == n || ctx.Err() != nil {
			break
		}
		by, err := house.try(ctx, s, limit)
		switch {
		case ctx.Err() != nil:
		case err != nil:
			return err
		case by == doesNotCompile:
			continue
		case by == "":
			tried++
			slipped[s.pkg]++
			fmt.Printf("NOT NOTICED  %s: %s\n", s.where, s.what)
		default:
			tried++
			noticed++
			fmt.Printf("noticed      %s: %s (%s)\n", s.where, s.what, by)
		}
	}
	if tried == 0 {
		return fmt.Errorf("nothing that compiles could be changed in %v", areas)
	}
	fmt.Printf("%d of %d noticed, %d %%\n", noticed, tried, 100*noticed/tried)
	for _, p := range slices.Sorted(maps.Keys(slipped)) {
		fmt.Printf("%3d slipped through in %s\n", slipped[p], p)
	}
	return nil
}
