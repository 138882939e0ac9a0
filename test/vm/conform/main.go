// Command conform runs the device conformance suite on a real drive of the machine it runs on; the virtual machine uses it. With hold
// it holds a disk open for itself.
package main

import (
	"context"
	"fmt"
	"os"
	"syscall"
	"time"

	"hylostat.example/internal/bench/device/devicetest"
	"hylostat.example/internal/bench/linux"
)

func main() {
	if os.Args[1] == "hold" { // as another program that wants a disk for itself
		if _, err := os.OpenFile(os.Args[2], os.O_RDONLY|syscall.O_EXCL, 0); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		time.Sleep(time.Hour)
	}
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
