package host

import (
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Link is what a link of this machine is, as far as the system tells.
type Link struct {
	Interface string  `json:"interface,omitempty"`
	Driver    string  `json:"driver,omitempty"`
	SpeedBps  float64 `json:"speed_bps,omitempty"`
	Duplex    string  `json:"duplex,omitempty"` // full or half
	MTU       int     `json:"mtu_bytes,omitempty"`
}

// LinkTo is the link by which this machine sends to an address.
func LinkTo(a netip.Addr) Link {
	hop, err := Ground{}.FirstHop(a)
	if err != nil || hop.Interface == "" {
		return Link{}
	}
	return LinkNamed(hop.Interface)
}

// LinkNamed is a link by its interface.
func LinkNamed(name string) Link {
	l := Link{Interface: name}
	folder := filepath.Join("/sys/class/net", name)
	read := func(file string) string {
		b, err := os.ReadFile(filepath.Join(folder, file))
		if err != nil {
			return ""
		}
		return strings.TrimSpace(string(b))
	}
	if v, err := strconv.ParseFloat(read("speed"), 64); err == nil && v > 0 {
		l.SpeedBps = v * 1e6
	}
	if d := read("duplex"); d == "full" || d == "half" {
		l.Duplex = d
	}
	if v, err := strconv.Atoi(read("mtu")); err == nil {
		l.MTU = v
	}
	if to, err := os.Readlink(filepath.Join(folder, "device", "driver")); err == nil {
		l.Driver = filepath.Base(to)
	}
	return l
}
