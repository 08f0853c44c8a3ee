// Package paths knows the paths: how each is judged, its baselines, its episodes, and what it
// has come to be.
//
//	p := paths.New(paths.Options{Store: s, Fleet: f, Guards: guard.Options{…}})
//	err := p.Load(ctx)
//	list, err := p.Ensure(ctx, []store.Ends{{Agent: quay, Target: "gate.holm.example", Family: 4, Via: "icmp"}})
package paths
