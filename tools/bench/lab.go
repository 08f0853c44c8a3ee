package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/lab"
	"woodlark.example/internal/network/world"
)

const row3 = `
world: three routers
nodes:
  - {name: a, addresses: [192.0.2.1]}
  - {name: r1, router: true, addresses: [192.0.2.11]}
  - {name: r2, router: true, addresses: [192.0.2.12]}
  - {name: r3, router: true, addresses: [192.0.2.13]}
  - {name: b, addresses: [198.51.100.2]}
links:
  - {between: [a, r1]}
  - {between: [r1, r2], delay: %s}
  - {between: [r2, r3]}
  - {between: [r3, b]}
`

func rowWorld(delay string) (*world.Model, error) {
	return world.Read([]byte(fmt.Sprintf(row3, delay)), world.Options{})
}

// labs measures how much a lab moves and how exact its delays are.
func labs(context.Context, string) error {
	m, err := rowWorld("0ms")
	if err != nil {
		return err
	}
	var ours, floor []float64
	for range 3 { // in turns, so that what else the machine does meets both
		rate, err := throughLab(m)
		if err != nil {
			return err
		}
		ours = append(ours, rate)
		if rate, err = throughPair(m); err != nil {
			return err
		}
		floor = append(floor, rate)
	}
	slices.Sort(ours)
	slices.Sort(floor)
	row("lab: TCP over three routers, MTU 1500; bare TUN pair", "Gbit/s", ours[1]/1e9, floor[1]/1e9)
	if m, err = rowWorld("10ms"); err != nil {
		return err
	}
	return labEchoes(m)
}

// throughLab is the TCP goodput across a lab, bit/s.
func throughLab(m *world.Model) (float64, error) {
	c, err := lab.Carry(m)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	doors := map[string]lab.Door{}
	for _, host := range []string{"a", "b"} {
		if doors[host], err = c.Door("", host); err != nil {
			return 0, err
		}
		doors[host] = lab.Door{Namespace: doors[host].Namespace}
	}
	return transfer(doors["a"], doors["b"])
}

// throughPair is the same over two interfaces with nothing but two loops that
// copy packets between them.
func throughPair(m *world.Model) (float64, error) {
	var ends [2]*lab.End
	for i, node := range []int{0, 4} {
		e, err := lab.NewEnd(m, node)
		if err != nil {
			return 0, err
		}
		defer e.Close()
		ends[i] = e
	}
	over := make(chan struct{})
	done := make(chan struct{}, 2)
	for i := range 2 {
		go func() {
			copyPackets(ends[i].Packets(), ends[1-i].Packets(), over)
			done <- struct{}{}
		}()
	}
	rate, err := transfer(ends[0].Door(), ends[1].Door())
	close(over)
	<-done
	<-done
	return rate, err
}

func copyPackets(from, to int, over <-chan struct{}) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	b := make([]byte, 65536)
	fds := []unix.PollFd{{Fd: int32(from), Events: unix.POLLIN}}
	for {
		n, err := unix.Read(from, b)
		if err == nil {
			_, _ = unix.Write(to, b[:n])
			continue
		}
		select {
		case <-over:
			return
		default:
		}
		_, _ = unix.Poll(fds, 100)
	}
}

func roleAt(door lab.Door, role string) (*exec.Cmd, io.Reader, error) {
	cmd := exec.Command(os.Args[0], "-role", role)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, nil, err
	}
	return cmd, out, door.Start(cmd)
}

// transfer sends over TCP for some seconds and returns what arrived, bit/s.
func transfer(from, to lab.Door) (float64, error) {
	take, out, err := roleAt(to, "take")
	if err != nil {
		return 0, err
	}
	lines := bufio.NewScanner(out)
	if !lines.Scan() {
		return 0, errors.New("the receiver did not start")
	}
	give, _, err := roleAt(from, "give")
	if err != nil {
		return 0, err
	}
	if !lines.Scan() {
		return 0, errors.New("the receiver said nothing")
	}
	rate, err := strconv.ParseFloat(lines.Text(), 64)
	return rate, errors.Join(err, give.Wait(), take.Wait())
}

// roles are the programs at the ends.
var roles = map[string]func() error{"take": take, "give": give, "reflect": reflect, "measure": measure}

const (
	transferPort = ":5009"
	transferFor  = 3 * time.Second
)

func take() error {
	l, err := net.Listen("tcp", transferPort)
	if err != nil {
		return err
	}
	fmt.Println("ready")
	c, err := l.Accept()
	if err != nil {
		return err
	}
	b := make([]byte, 512<<10)
	total, began := 0, time.Now()
	for {
		n, err := c.Read(b)
		if total += n; err != nil {
			break
		}
	}
	fmt.Println(float64(total) * 8 / time.Since(began).Seconds())
	return nil
}

func give() error {
	c, err := net.Dial("tcp", "198.51.100.2"+transferPort)
	if err != nil {
		return err
	}
	defer c.Close()
	b := make([]byte, 512<<10)
	for limit := time.Now().Add(transferFor); time.Now().Before(limit); {
		if _, err := c.Write(b); err != nil {
			return err
		}
	}
	return nil
}

// labEchoes prints how much a lab adds to its programmed delay of 10 ms each
// way, by the kernel's stamps.
func labEchoes(m *world.Model) error {
	c, err := lab.Carry(m)
	if err != nil {
		return err
	}
	defer c.Close()
	var doors [2]lab.Door
	for i, host := range []string{"a", "b"} {
		d, err := c.Door("", host)
		if err != nil {
			return err
		}
		doors[i] = lab.Door{Namespace: d.Namespace}
	}
	reflector, ready, err := roleAt(doors[1], "reflect")
	if err != nil {
		return err
	}
	defer func() {
		_ = reflector.Process.Kill()
		_ = reflector.Wait()
	}()
	bufio.NewScanner(ready).Scan()
	measurer, out, err := roleAt(doors[0], "measure")
	if err != nil {
		return err
	}
	text, err := io.ReadAll(out)
	if err := errors.Join(err, measurer.Wait()); err != nil {
		return err
	}
	var late []float64
	for _, f := range strings.Fields(string(text)) {
		v, err := strconv.ParseFloat(f, 64)
		if err != nil {
			return err
		}
		late = append(late, v)
	}
	slices.Sort(late)
	alone("lab: UDP echo over 20 ms, one at a time, what it took more: median", "µs", late[len(late)/2])
	alone("lab: … 99 %", "µs", late[len(late)*99/100])
	alone("lab: measured time to wake, taken off", "µs", float64(c.Lag())/1e3)
	return nil
}

const (
	echoPort = 5007
	echoes   = 2000
)

func udpSocket(port int) (int, error) {
	runtime.LockOSThread()
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM, 0)
	if err != nil {
		return -1, err
	}
	return fd, errors.Join(unix.Bind(fd, &unix.SockaddrInet4{Port: port}), unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1))
}

// reflect sends back what comes, with the time that it took to wake and answer.
func reflect() error {
	fd, err := udpSocket(echoPort)
	if err != nil {
		return err
	}
	fmt.Println("ready")
	b, oob := make([]byte, 64), make([]byte, 256)
	for {
		n, at, from, err := receive(fd, b, oob)
		if err != nil {
			return err
		}
		binary.BigEndian.PutUint64(b[8:], uint64(time.Since(at)))
		_ = unix.Sendto(fd, b[:n], 0, from)
	}
}

// receive waits for a packet and says when the kernel saw it.
func receive(fd int, b, oob []byte) (int, time.Time, unix.Sockaddr, error) {
	for {
		n, extra, _, from, err := unix.Recvmsg(fd, b, oob, 0)
		if errors.Is(err, syscall.EINTR) {
			continue
		}
		if err != nil {
			return 0, time.Time{}, nil, err
		}
		m, err := unix.ParseSocketControlMessage(oob[:extra])
		if err != nil || len(m) == 0 || len(m[0].Data) < 16 {
			return 0, time.Time{}, nil, errors.New("the kernel gave no stamp")
		}
		return n, time.Unix(int64(binary.NativeEndian.Uint64(m[0].Data)), int64(binary.NativeEndian.Uint64(m[0].Data[8:]))), from, nil
	}
}

// measure sends one echo after the other and prints by how many µs more than 20
// ms each took, without the time that it spent at the other end.
func measure() error {
	fd, err := udpSocket(0)
	if err != nil {
		return err
	}
	to := &unix.SockaddrInet4{Port: echoPort, Addr: [4]byte{198, 51, 100, 2}}
	b, oob := make([]byte, 64), make([]byte, 256)
	var out bytes.Buffer
	for i := range echoes {
		binary.BigEndian.PutUint32(b, uint32(i))
		sent := time.Now()
		if err := unix.Sendto(fd, b, 0, to); err != nil {
			return err
		}
		_, at, _, err := receive(fd, b, oob)
		if err != nil {
			return err
		}
		took := at.Sub(sent) - time.Duration(binary.BigEndian.Uint64(b[8:]))
		if i >= 100 { // after the programs have warmed up
			fmt.Fprintf(&out, "%.1f\n", float64(took-20*time.Millisecond)/1e3)
		}
		_ = unix.Nanosleep(&unix.Timespec{Nsec: 5e6}, nil)
	}
	_, err = out.WriteTo(os.Stdout)
	return err
}
