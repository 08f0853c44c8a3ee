package lab

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/link"
)

// Showing is what crosses the links of a lab.
type Showing struct {
	At    time.Time `json:"at"`
	Links []Link    `json:"links"`
	// Overflow counts packets that the lab itself dropped because it had too many
	// under way; figures taken meanwhile are not those of the world.
	Overflow uint64 `json:"overflow"`
}

// Link is one direction of a link.
type Link struct {
	Name    string  `json:"name,omitempty"`
	From    string  `json:"from"`
	To      string  `json:"to"`
	Packets uint64  `json:"packets"`
	Bytes   uint64  `json:"sent_bytes"`
	Through uint64  `json:"through"`
	Lost    uint64  `json:"lost"`
	Full    uint64  `json:"queue_full"`
	Policed uint64  `json:"policed"`
	Down    uint64  `json:"down"`
	TooBig  uint64  `json:"too_big"`
	Copies  uint64  `json:"duplicates"`
	Rate    float64 `json:"rate_bps,omitempty"`
	Backlog float64 `json:"queue_ms"`
	Linked  bool    `json:"linked"`
}

func (c *Carrier) showing() Showing {
	passing, over := c.Passing()
	s := Showing{At: time.Now().UTC(), Links: []Link{}, Overflow: over}
	for _, p := range passing {
		s.Links = append(s.Links, Link{
			Name: p.Name, From: c.m.Nodes()[p.From].Name, To: c.m.Nodes()[p.To].Name,
			Packets: p.Packets, Bytes: p.Bytes, Through: p.By[link.Through], Lost: p.By[link.Lost], Full: p.By[link.Full],
			Policed: p.By[link.Policed], Down: p.By[link.Down], TooBig: p.By[link.TooBig], Copies: p.Copies,
			Rate: p.Rate, Backlog: float64(p.Backlog) / 1e6, Linked: p.Up,
		})
	}
	return s
}

// hold takes a folder for as long as this process lives, whatever ends it.
func hold(folder string) (*os.File, error) {
	f, err := os.Open(folder)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// ServeOptions of a lab that others can find.
type ServeOptions struct {
	Folder string // of all labs
	Name   string
	World  string // what the model was read from
	// Unprivileged says that this process is in a user namespace of its own.
	Unprivileged bool
	// Ready is called when the lab can be used.
	Ready func(Record)
}

// Serve carries a lab until ctx ends or somebody takes it down. One of the same
// name that died is removed first.
func Serve(ctx context.Context, m *world.Model, o ServeOptions) error {
	if err := CheckName(o.Name); err != nil {
		return err
	}
	folder := filepath.Join(o.Folder, o.Name)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("make the folder of the lab: %w", err)
	}
	held, err := hold(folder)
	if err != nil {
		return fmt.Errorf("lab %q is up already; take it down with 'woodlark lab down -name %s', or choose another -name", o.Name, o.Name)
	}
	defer held.Close()
	if before, err := Find(o.Folder, o.Name); err == nil {
		before.endPrograms() // of one that died
	}
	c, err := Carry(m)
	if err != nil {
		_ = os.RemoveAll(folder)
		return err
	}
	defer os.RemoveAll(folder)
	defer c.Close()
	r := Record{Name: o.Name, World: o.World, Process: os.Getpid(), Began: began(os.Getpid()), StartedAt: time.Now().UTC(), Unprivileged: o.Unprivileged, folder: folder}
	for _, e := range c.ends {
		h := Host{Name: e.name, File: e.Descriptor()}
		h.Inode, _ = inodeOf(fmt.Sprintf("/proc/self/fd/%d", h.File))
		for _, a := range m.Nodes()[e.node].Addresses {
			h.Addresses = append(h.Addresses, a.String())
		}
		r.Hosts = append(r.Hosts, h)
	}
	if err := WriteFiles(folder, m); err != nil {
		return err
	}
	return c.control(ctx, r, o.Ready)
}

// control answers those who ask about the lab.
func (c *Carrier) control(ctx context.Context, r Record, ready func(Record)) error {
	ctx, down := context.WithCancel(ctx)
	defer down()
	socket := filepath.Join(r.folder, socketFile)
	_ = os.Remove(socket)
	l, err := net.Listen("unix", socket)
	if err != nil {
		return fmt.Errorf("open the lab's control: %w", err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /show", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(c.showing())
	})
	mux.HandleFunc("POST /down", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusNoContent)
		down()
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(l) }()
	if err := r.write(); err != nil {
		_ = server.Close()
		<-ended
		return fmt.Errorf("record the lab: %w", err)
	}
	if ready != nil {
		ready(r)
	}
	<-ctx.Done()
	short, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if err := server.Shutdown(short); err != nil {
		_ = server.Close()
	}
	if err := <-ended; !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
