package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"woodlark.example/internal/guardbench"
)

// guarding measures the guard on made-up paths whose truth is known. There is no floor: the
// figures are shares and minutes.
func guarding(context.Context, string) error {
	for _, seeds := range []struct {
		name string
		seed uint64
		part uint64
	}{{"a seed that the guard was tuned with", guardbench.Tuned, 5}, {"a held-out seed", guardbench.HeldOut, 1}} {
		fmt.Printf("\nGuard, %s, a reading a minute\n", seeds.name)
		t := guardbench.Run(guardbench.Options{Seed: seeds.seed, Every: time.Minute, Part: seeds.part})
		t.Print(os.Stdout)
		fmt.Printf("\nGuard, %s, a reading of 20 probes every five minutes\n", seeds.name)
		guardbench.Run(guardbench.Options{Seed: seeds.seed, Every: 5 * time.Minute, Part: seeds.part}).Print(os.Stdout)
	}
	fmt.Println("\nGuard, a held-out seed, a reading a minute, what looks wrong is probed more")
	guardbench.Run(guardbench.Options{Seed: guardbench.HeldOut, Every: time.Minute, Part: 5, Suspicion: true}).Print(os.Stdout)
	fmt.Println()
	for _, sent := range []int{60, 12} {
		fmt.Printf("probed %d times a minute: ", sent)
		guardbench.RunIncidents(guardbench.HeldOut, 500, sent).Print(os.Stdout)
	}
	guardbench.PrintSize(os.Stdout, guardbench.HeldOut)
	guardbench.RunCost(guardbench.HeldOut).Print(os.Stdout)
	return nil
}
