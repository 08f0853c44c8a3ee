package lab

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network/namespace"
	"woodlark.example/internal/network/world"
)

// Door is the way into a host of a lab.
type Door struct {
	Name      string // of the host, which programs there see as the machine's
	Namespace string // a file that stands for the network namespace
	Hosts     string // a file to be seen as /etc/hosts
	Resolvers string // a file to be seen as /etc/resolv.conf
}

// open moves the calling thread into the host.
func (d Door) open() error {
	ns, err := os.Open(d.Namespace)
	if err != nil {
		return fmt.Errorf("open the host's namespace: %w", err)
	}
	defer ns.Close()
	if err := unix.Setns(int(ns.Fd()), unix.CLONE_NEWNET); err != nil {
		return explain(fmt.Errorf("enter the host's namespace: %w", err))
	}
	if err := unix.Unshare(unix.CLONE_FS | unix.CLONE_NEWNS | unix.CLONE_NEWUTS); err != nil {
		return explain(fmt.Errorf("make a mount namespace: %w", err))
	}
	if d.Name != "" && len(d.Name) <= 64 {
		_ = unix.Sethostname([]byte(d.Name))
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return explain(fmt.Errorf("keep mounts to ourselves: %w", err))
	}
	// Without it tools would see the interfaces of the machine there.
	_ = unix.Mount("lab", "/sys", "sysfs", 0, "")
	for from, to := range map[string]string{d.Hosts: "/etc/hosts", d.Resolvers: "/etc/resolv.conf"} {
		real, err := filepath.EvalSymlinks(to)
		if from == "" || err != nil {
			continue // this machine has no such file, and programs do not look for it
		}
		if err := unix.Mount(from, real, "", unix.MS_BIND, ""); err != nil {
			return explain(fmt.Errorf("lay %s over %s: %w", from, real, err))
		}
	}
	return nil
}

// Start starts a program at the host.
func (d Door) Start(cmd *exec.Cmd) error {
	return namespace.InThread(func() error {
		if err := d.open(); err != nil {
			return err
		}
		return cmd.Start()
	})
}

// Become turns this process into a program at the host. It returns only when
// that fails.
func (d Door) Become(program string, args, environment []string) error {
	return namespace.InThread(func() error {
		if err := d.open(); err != nil {
			return err
		}
		path, err := exec.LookPath(program)
		if err != nil && !errors.Is(err, exec.ErrDot) {
			return err
		}
		return unix.Exec(path, args, environment)
	})
}

// WriteFiles writes what the hosts of a world see as /etc/hosts, and each as
// /etc/resolv.conf, into a folder.
func WriteFiles(folder string, m *world.Model) error {
	if err := os.WriteFile(hostsFile(folder, ""), hostsText(m), 0o644); err != nil {
		return fmt.Errorf("write the names of the lab: %w", err)
	}
	for _, n := range m.Hosts() {
		names := hostsText(m)
		if len(n.Resolvers) > 0 { // names are for the resolvers to tell
			names = []byte("127.0.0.1 localhost\n::1 localhost\n")
		}
		if err := os.WriteFile(hostsFile(folder, n.Name), names, 0o644); err != nil {
			return fmt.Errorf("write the names that %s knows: %w", n.Name, err)
		}
		if err := os.WriteFile(resolversFile(folder, n.Name), resolversText(n.Resolvers), 0o644); err != nil {
			return fmt.Errorf("write the resolvers of %s: %w", n.Name, err)
		}
	}
	return nil
}

func hostsFile(folder, host string) string { return filepath.Join(folder, fileName(host)+".hosts") }
func resolversFile(folder, host string) string {
	return filepath.Join(folder, fileName(host)+".resolv")
}

// fileName keeps a name of a world within the folder.
func fileName(host string) string { return "host-" + strings.ReplaceAll(host, "/", "_") }

func hostsText(m *world.Model) []byte {
	var b strings.Builder
	b.WriteString("127.0.0.1 localhost\n::1 localhost\n")
	for _, n := range m.Nodes() {
		for _, a := range n.Addresses {
			fmt.Fprintf(&b, "%s %s\n", a, strings.Join(append([]string{n.Name}, n.Aliases...), " "))
		}
	}
	return []byte(b.String())
}

// resolversText names at most three, as that is what programs heed. Without any
// it names an address of the host itself, where nobody answers.
func resolversText(resolvers []netip.Addr) []byte {
	var b strings.Builder
	for _, r := range resolvers[:min(3, len(resolvers))] {
		fmt.Fprintf(&b, "nameserver %s\n", r)
	}
	if len(resolvers) == 0 {
		b.WriteString("nameserver 127.0.0.1\n")
	}
	b.WriteString("options timeout:2 attempts:2\n")
	return []byte(b.String())
}

// Door is the way into a host of this carrier, with files in a folder.
func (c *Carrier) Door(folder, host string) (Door, error) {
	i, err := c.m.Find(host)
	if err != nil {
		return Door{}, err
	}
	for _, e := range c.ends {
		if e.node == i {
			return Door{e.name, e.Path(), hostsFile(folder, e.name), resolversFile(folder, e.name)}, nil
		}
	}
	return Door{}, fmt.Errorf("%q is a router: programs run at hosts: %s", host, hostNames(c.m))
}

func hostNames(m *world.Model) string {
	var names []string
	for _, n := range m.Hosts() {
		names = append(names, n.Name)
	}
	if len(names) > 8 {
		names = append(names[:8], fmt.Sprintf("and %d more", len(names)-8))
	}
	return strings.Join(names, ", ")
}
