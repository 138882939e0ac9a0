// Command conform runs the device conformance suite on a real drive of the machine it runs on; the virtual machine uses it.
package main

import (
	"context"
	"fmt"
	"os"

	"hylostat.example/internal/bench/device/devicetest"
	"hylostat.example/internal/bench/linux"
)

func main() {
	if err := conform(context.Background(), os.Args[1]); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}

func conform(ctx context.Context, node string) error {
	m := linux.New()
	all, err := m.Look(ctx)
	if err != nil {
		return err
	}
	for _, a := range all {
		if a.Node == node {
			d, err := m.Open(ctx, a)
			if err != nil {
				return err
			}
			return devicetest.Conforms(ctx, d)
		}
	}
	return fmt.Errorf("no drive %s", node)
}
