package storetest

import (
	"io"
	"net"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Door is a way by TCP to the server of the tests, which can be shut.
type Door struct {
	in      net.Listener
	network string
	address string

	mu    sync.Mutex
	open  map[net.Conn]bool
	count int
	shut  bool
}

var place = regexp.MustCompile(`@(tcp|unix)\(([^)]*)\)/`)

// Behind makes a way to where a database's name leads.
func Behind(t testing.TB, dsn string) *Door {
	t.Helper()
	at := place.FindStringSubmatch(dsn)
	require.Len(t, at, 3, dsn)
	in, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	d := &Door{in: in, network: at[1], address: at[2], open: map[net.Conn]bool{}}
	go d.serve()
	t.Cleanup(d.Stop)
	return d
}

// Through is a database's name that leads through doors, the first of them first.
func Through(dsn string, doors ...*Door) string {
	var list []string
	for _, d := range doors {
		list = append(list, d.in.Addr().String())
	}
	return place.ReplaceAllLiteralString(dsn, "@tcp("+strings.Join(list, ",")+")/")
}

func (d *Door) serve() {
	for {
		near, err := d.in.Accept()
		if err != nil {
			return
		}
		far, err := net.Dial(d.network, d.address)
		if err != nil || !d.enter(near, far) {
			_ = near.Close()
			continue
		}
		for _, pair := range [][2]net.Conn{{near, far}, {far, near}} {
			go func() { // until either end is closed
				_, _ = io.Copy(pair[0], pair[1])
				_ = near.Close()
				_ = far.Close()
			}()
		}
	}
}

func (d *Door) enter(list ...net.Conn) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.shut {
		return false
	}
	d.count++
	for _, c := range list {
		d.open[c] = true
	}
	return true
}

// Connections are how many there were.
func (d *Door) Connections() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.count
}

// Stop shuts the door, on whoever is in it, too.
func (d *Door) Stop() {
	_ = d.in.Close()
	d.mu.Lock()
	defer d.mu.Unlock()
	d.shut = true
	for c := range d.open {
		_ = c.Close()
	}
	clear(d.open)
}
