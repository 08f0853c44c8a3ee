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
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/whole"
)

// Record is what a lab that outlives its command leaves in its folder, so that
// others find it.
type Record struct {
	Name      string    `json:"name"`
	World     string    `json:"world"`
	Process   int       `json:"process"`
	Began     string    `json:"began"` // of the process, as the kernel counts; tells it from a later one
	StartedAt time.Time `json:"started_at"`
	// Unprivileged says that it lives in a user namespace.
	Unprivileged bool   `json:"unprivileged"`
	Hosts        []Host `json:"hosts"`

	folder string
}

// Host is a host of a lab.
type Host struct {
	Name      string   `json:"name"`
	Addresses []string `json:"addresses"`
	File      int      `json:"file"`  // descriptor of the namespace in the process
	Inode     uint64   `json:"inode"` // of the namespace
}

// ErrNoLab is wrapped when there is no such lab.
var ErrNoLab = errors.New("no such lab")

const (
	recordFile = "lab.json"
	socketFile = "control"
)

// Folder is where the labs of a state folder are recorded.
func Folder(state string) string { return filepath.Join(state, "labs") }

// CheckName refuses names that are no file names.
func CheckName(name string) error {
	if name == "" || len(name) > 40 || strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") != "" {
		return fmt.Errorf("lab name %q is not made of letters, digits, - and _, 40 at most", name)
	}
	return nil
}

// Find reads the record of a lab; with an empty name that of the only one there
// is. The lab may have died: see Alive.
func Find(folder, name string) (Record, error) {
	if name != "" {
		if err := CheckName(name); err != nil {
			return Record{}, err
		}
		return read(filepath.Join(folder, name))
	}
	all, err := List(folder)
	switch {
	case err != nil:
		return Record{}, err
	case len(all) == 0:
		return Record{}, fmt.Errorf("%w is up; 'woodlark lab up -world FILE' makes one", ErrNoLab)
	case len(all) > 1:
		var names []string
		for _, r := range all {
			names = append(names, r.Name)
		}
		return Record{}, fmt.Errorf("%w: several are up (%s); choose with -name", ErrNoLab, strings.Join(names, ", "))
	}
	return all[0], nil
}

// List reads all records.
func List(folder string) ([]Record, error) {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("list the labs: %w", err)
	}
	var all []Record
	for _, e := range entries {
		if r, err := read(filepath.Join(folder, e.Name())); err == nil {
			all = append(all, r)
		}
	}
	return all, nil
}

func read(folder string) (Record, error) {
	data, err := os.ReadFile(filepath.Join(folder, recordFile))
	if err != nil {
		return Record{}, fmt.Errorf("%w: %q; 'woodlark lab show' lists those that are up", ErrNoLab, filepath.Base(folder))
	}
	r := Record{folder: folder}
	if err := json.Unmarshal(data, &r); err != nil {
		return Record{}, fmt.Errorf("read the record of lab %q: %w", filepath.Base(folder), err)
	}
	return r, nil
}

func (r Record) write() error {
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	return whole.Write(filepath.Join(r.folder, recordFile), data)
}

// began is when a process began, as the kernel counts; empty when there is none.
func began(process int) string {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", process))
	if err != nil {
		return ""
	}
	// The second field, in brackets, may hold anything.
	fields := strings.Fields(string(data[strings.LastIndexByte(string(data), ')')+1:]))
	if len(fields) < 20 || fields[0] == "Z" { // a zombie carries nothing
		return ""
	}
	return fields[19]
}

// Alive reports whether the process that carries the lab's packets still runs.
func (r Record) Alive() bool { return r.Began != "" && began(r.Process) == r.Began }

// Host finds a host by its name or one of its addresses.
func (r Record) Host(name string) (Host, error) {
	var names []string
	for _, h := range r.Hosts {
		if h.Name == name {
			return h, nil
		}
		for _, a := range h.Addresses {
			if a == name {
				return h, nil
			}
		}
		names = append(names, h.Name)
	}
	return Host{}, fmt.Errorf("lab %q has no host %q; it has %s", r.Name, name, strings.Join(names, ", "))
}

// Door is the way into a host.
func (r Record) Door(h Host) Door {
	return Door{h.Name, fmt.Sprintf("/proc/%d/fd/%d", r.Process, h.File), hostsFile(r.folder, h.Name), resolversFile(r.folder, h.Name)}
}

// client speaks to the lab's process.
func (r Record) client() *http.Client {
	return &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", filepath.Join(r.folder, socketFile))
	}}}
}

// Show asks what crosses each link.
func (r Record) Show() (Showing, error) {
	var s Showing
	answer, err := r.client().Get("http://lab/show")
	if err != nil {
		return s, fmt.Errorf("lab %q does not answer: %w", r.Name, err)
	}
	defer answer.Body.Close()
	if err := json.NewDecoder(answer.Body).Decode(&s); err != nil {
		return s, fmt.Errorf("lab %q: %w", r.Name, err)
	}
	return s, nil
}

// Down ends the lab, dead or alive, with all programs at its hosts, and removes
// its records. It reports what it found still running there.
func (r Record) Down() (programs int, err error) {
	programs = r.endPrograms()
	if r.Alive() {
		if answer, err := r.client().Post("http://lab/down", "", nil); err == nil {
			answer.Body.Close()
		}
		if !ended(func() bool { return r.Alive() }, 5*time.Second) {
			_ = unix.Kill(r.Process, unix.SIGKILL)
			ended(func() bool { return r.Alive() }, 5*time.Second)
		}
	}
	if err := os.RemoveAll(r.folder); err != nil {
		return programs, fmt.Errorf("remove the records of lab %q: %w", r.Name, err)
	}
	return programs, nil
}

// ended waits until something is no longer true.
func ended(is func() bool, most time.Duration) bool {
	for limit := time.Now().Add(most); is(); {
		if time.Now().After(limit) {
			return false
		}
		unix.Nanosleep(&unix.Timespec{Nsec: 5e6}, nil)
	}
	return true
}

// endPrograms ends what runs in the namespaces of the lab.
func (r Record) endPrograms() int {
	found := r.programs()
	for _, p := range found {
		_ = unix.Kill(p, unix.SIGTERM)
	}
	if !ended(func() bool { return len(r.programs()) > 0 }, 2*time.Second) {
		for _, p := range r.programs() {
			_ = unix.Kill(p, unix.SIGKILL)
		}
		ended(func() bool { return len(r.programs()) > 0 }, 2*time.Second)
	}
	return len(found)
}

// programs are the processes at the lab's hosts.
func (r Record) programs() []int {
	inodes := map[uint64]bool{}
	for _, h := range r.Hosts {
		inodes[h.Inode] = true
	}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var found []int
	for _, e := range entries {
		process, err := strconv.Atoi(e.Name())
		if err != nil || process == r.Process {
			continue
		}
		if inode, ok := inodeOf(fmt.Sprintf("/proc/%d/ns/net", process)); ok && inodes[inode] {
			found = append(found, process)
		}
	}
	return found
}

func inodeOf(file string) (uint64, bool) {
	info, err := os.Stat(file)
	if err != nil {
		return 0, false
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return stat.Ino, true
}
