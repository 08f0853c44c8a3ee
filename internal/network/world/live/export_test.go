package live

// InProcess keeps a network's TCP within this process.
func InProcess(n *Network) *Network {
	n.inProcess = true
	return n
}
