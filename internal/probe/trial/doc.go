// Package trial carries out trials of acceptance tests between two ends: frames of given sizes,
// at given rates or in bursts, each way, of several services at once.
//
//	b := trial.Bench{Options: near, Plan: plan}
//	outcome, err := b.Make(ctx, *acceptance.Walk(plan, made).Next, nil)
package trial
