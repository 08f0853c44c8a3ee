// Package loads knows who may load what when: measurements that fill a line exclude each other
// at an agent and on the access of its site, disturb what else is measured there, and are held
// against what they found the times before.
//
//	l := loads.New()
//	c := &loads.Claim{Agents: []ident.ID{near, far}, Sites: []string{"Holm"}}
//	waited, err := l.Wait(ctx, c)
//	defer l.Free(c)
package loads
