package main

import (
	"bufio"
	"context"
	"encoding/binary"
	"fmt"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/wire"
)

const pinged = 1000

func target(i int) netip.Addr {
	return netip.AddrFrom4([4]byte{127, 1, byte(i / 250), byte(i%250 + 1)})
}

// pinging runs the whole service with 1,000 continuous paths on loopback, and a
// bare loop that sends and receives as many echo requests.
func pinging(ctx context.Context, dir, program string, seconds int) error {
	state := filepath.Join(dir, "state")
	serve := exec.CommandContext(ctx, program, "serve", "-listen", "127.0.0.1:0", "-state", state)
	serve.Cancel = func() error { return serve.Process.Signal(os.Interrupt) }
	log, err := serve.StderrPipe()
	if err != nil {
		return err
	}
	if err := serve.Start(); err != nil {
		return err
	}
	defer func() {
		_ = serve.Process.Signal(os.Interrupt)
		_ = serve.Wait()
	}()
	base, err := readyAddress(bufio.NewScanner(log))
	if err != nil {
		return err
	}
	go func() { _, _ = bufio.NewReader(log).WriteTo(os.Stderr) }()
	token, err := os.ReadFile(filepath.Join(state, "token"))
	if err != nil {
		return err
	}
	c := client.New(base, strings.TrimSpace(string(token)))
	spec := apitype.WatchSpec{Name: "loopback", From: []string{"local"}}
	for i := range pinged {
		spec.To = append(spec.To, target(i).String())
	}
	if err := c.Do(ctx, http.MethodPost, "/watches", spec, nil); err != nil {
		return err
	}
	wait(ctx, 10*time.Second) // the start is not what is measured
	before := cpu(serve.Process.Pid)
	wait(ctx, time.Duration(seconds)*time.Second)
	ours := (cpu(serve.Process.Pid) - before) / float64(seconds) * 100
	memory := peakMiB(serve.Process.Pid)
	floorCPU, floorMemory, err := runFloor(ctx, seconds)
	if err != nil {
		return err
	}
	row("1,000 paths at 1 probe/s, whole service: CPU of one core", "%", ours, floorCPU)
	row("  peak memory", "MiB", memory, floorMemory)
	return punctuality(ctx, c)
}

func readyAddress(lines *bufio.Scanner) (string, error) {
	for lines.Scan() {
		if _, after, ok := strings.Cut(lines.Text(), "msg=ready address="); ok {
			address, _, _ := strings.Cut(after, " ")
			return address, nil
		}
	}
	return "", fmt.Errorf("the service did not become ready")
}

func wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// punctuality reads off the stored readings how many probes left within 1 ms of
// their deadline.
func punctuality(ctx context.Context, c *client.Client) error {
	var list api.PathList
	if err := c.Get(ctx, "/paths?limit=2000", nil, &list); err != nil {
		return err
	}
	var sent, late, lost, short int
	for _, p := range list.Paths {
		var readings api.ReadingList
		if err := c.Get(ctx, "/paths/"+p.ID+"/readings", nil, &readings); err != nil {
			return err
		}
		for i, r := range readings.Readings {
			if i == 0 {
				continue // the minute in which the watch was added
			}
			sent += r.Sent
			late += r.LateSent
			lost += r.Lost
			short += r.Expected - r.Sent
		}
	}
	if sent == 0 {
		return fmt.Errorf("no whole minute was measured; ping for longer")
	}
	alone(fmt.Sprintf("  probes within 1 ms of their deadline, of %d", sent), "%", 100*(1-float64(late)/float64(sent)))
	alone("  probes lost, or due and not sent", "", float64(lost+short))
	return nil
}

// cpu is the processor time of a process in seconds.
func cpu(pid int) float64 {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(data), ") ")
	fields := strings.Fields(rest)
	user, _ := strconv.ParseFloat(fields[11], 64)
	system, _ := strconv.ParseFloat(fields[12], 64)
	return (user + system) / 100
}

// peakMiB is the most memory that a process has had.
func peakMiB(pid int) float64 {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	for _, line := range strings.Split(string(data), "\n") {
		if kib, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			v, _ := strconv.ParseFloat(strings.TrimSuffix(strings.TrimSpace(kib), " kB"), 64)
			return v / 1024
		}
	}
	return 0
}

// runFloor runs the floor as a process of its own.
func runFloor(ctx context.Context, seconds int) (percent, mib float64, err error) {
	self, err := os.Executable()
	if err != nil {
		return 0, 0, err
	}
	out, err := exec.CommandContext(ctx, self, "-floor", "-seconds", strconv.Itoa(min(seconds, 30))).Output()
	if err != nil {
		return 0, 0, fmt.Errorf("the floor of pinging: %w", err)
	}
	_, err = fmt.Sscan(string(out), &percent, &mib)
	return percent, mib, err
}

// pingFloor sends an echo request each millisecond and reads its answer, with
// nothing else done.
func pingFloor(seconds int) error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_RAW, unix.IPPROTO_ICMP)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	const solRaw, icmpFilter = 255, 1
	mask := ^uint32(1)
	_ = unix.SetsockoptInt(fd, solRaw, icmpFilter, int(int32(mask)))
	buffer := make([]byte, 2048)
	payload := make([]byte, 48)
	began := time.Now()
	end := began.Add(time.Duration(seconds) * time.Second)
	for i := 0; ; i++ {
		due := began.Add(time.Duration(i) * time.Millisecond)
		if due.After(end) {
			break
		}
		if left := time.Until(due); left > 0 {
			ts := unix.NsecToTimespec(int64(left))
			_ = unix.ClockNanosleep(unix.CLOCK_MONOTONIC, 0, &ts, nil)
		}
		binary.BigEndian.PutUint64(payload, uint64(i))
		b := wire.Echo{ID: 1, Seq: uint16(i), Payload: payload}.Marshal(wire.IPv4)
		if err := unix.Sendto(fd, b, 0, &unix.SockaddrInet4{Addr: target(i % pinged).As4()}); err != nil {
			return err
		}
		if _, _, err := unix.Recvfrom(fd, buffer, 0); err != nil {
			return err
		}
	}
	fmt.Println(cpu(os.Getpid())/float64(seconds)*100, peakMiB(os.Getpid()))
	return nil
}
