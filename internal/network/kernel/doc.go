// Package kernel sends probes through this machine's own network, over raw
// sockets where they are permitted and the unprivileged ICMP sockets where
// not, with the kernel's own time stamps.
package kernel
