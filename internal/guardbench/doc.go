// Package guardbench measures the guard on made-up paths whose truth is known: many climates,
// many kinds of change in several sizes, and as many paths without any change, in virtual
// time. Seeds that the guard was tuned with and held-out ones are kept apart.
//
//	t := guardbench.Run(guardbench.Options{Seed: guardbench.HeldOut, Every: time.Minute, Part: 5})
//	t.Print(os.Stdout)
package guardbench
