// Package lab attaches a world to the kernel: a network namespace for each host,
// with an interface whose packets cross the world's model, so that any program
// can be run at a host. Its addresses exist in those namespaces alone, which have
// no way out. They live as long as the process that carries the packets, or a
// program at a host; nothing else has to be taken down.
//
//	c, err := lab.Carry(model)       // in this process
//	defer c.Close()
//	cmd := c.Command("ops.northquay.example", "ping", "terminal.holm.example")
//
// Up, Find and the records in a folder are for labs that outlive the command
// that made them.
package lab
