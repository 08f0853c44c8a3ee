package lab_test

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"strconv"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// The test's own programs, which run at the hosts of a lab: this binary with a
// role in its environment.
const roleKey = "LAB_TEST_ROLE"

var roles = map[string]func(args []string) (any, error){
	"echo": echo, "probe": probe, "hops": hops, "size": size, "take": take, "give": give, "blast": blast, "count": count,
}

func TestMain(m *testing.M) {
	role, ok := roles[os.Getenv(roleKey)]
	if !ok {
		os.Exit(m.Run())
	}
	answer, err := role(os.Args[1:])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	_ = json.NewEncoder(os.Stdout).Encode(answer)
}

func ready() { fmt.Println("ready") }

// plain takes a socket out of the runtime's hands: a thread that blocks in the
// kernel is woken sooner than a goroutine.
func plain(c syscall.Conn) (fd int, err error) {
	raw, err := c.SyscallConn()
	if err != nil {
		return -1, err
	}
	failed := raw.Control(func(f uintptr) { fd, err = unix.Dup(int(f)) })
	return fd, errors.Join(failed, err, unix.SetNonblock(fd, false))
}

// echo sends back what comes, until it is ended.
func echo(args []string) (any, error) {
	c, err := net.ListenPacket("udp", ":"+args[0])
	if err != nil {
		return nil, err
	}
	fd, err := plain(c.(*net.UDPConn))
	if err != nil {
		return nil, err
	}
	runtime.LockOSThread()
	ready()
	b := make([]byte, 65536)
	for {
		n, from, err := unix.Recvfrom(fd, b, 0)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if err := unix.Sendto(fd, b[:n], 0, from); err != nil {
			return nil, err
		}
	}
}

// arrived is when the kernel saw a packet.
func arrived(oob []byte) time.Time {
	messages, err := unix.ParseSocketControlMessage(oob)
	if err != nil || len(messages) == 0 || len(messages[0].Data) < 16 {
		return time.Time{}
	}
	return time.Unix(int64(binary.NativeEndian.Uint64(messages[0].Data)), int64(binary.NativeEndian.Uint64(messages[0].Data[8:])))
}

type probed struct {
	RTTs []float64 // ms, of those answered, in the order of sending
	Sent int
}

// probe sends a number of packets, one every so often, and times their echoes.
func probe(args []string) (any, error) {
	c, err := net.Dial("udp", args[0])
	if err != nil {
		return nil, err
	}
	defer c.Close()
	n, _ := strconv.Atoi(args[1])
	every, err := time.ParseDuration(args[2])
	if err != nil {
		return nil, err
	}
	fd, err := plain(c.(*net.UDPConn))
	if err != nil {
		return nil, err
	}
	sent, rtts := make([]time.Time, n), make([]float64, n)
	over := unix.NsecToTimeval(int64(time.Second))
	if err := errors.Join(unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &over), unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1)); err != nil {
		return nil, err
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread()
		b, oob := make([]byte, 2048), make([]byte, 256)
		for {
			size, extra, _, _, err := unix.Recvmsg(fd, b, oob, 0)
			if errors.Is(err, unix.EINTR) {
				continue
			}
			if err != nil { // nothing came for a second
				return
			}
			now := arrived(oob[:extra])
			if i := int(binary.BigEndian.Uint32(b)); size == 64 && i < n && rtts[i] == 0 {
				rtts[i] = float64(now.Sub(sent[i])) / 1e6
			}
		}
	}()
	began := time.Now()
	for i := range n {
		if left := time.Until(began.Add(time.Duration(i) * every)); left > 0 {
			ts := unix.NsecToTimespec(int64(left))
			_ = unix.ClockNanosleep(unix.CLOCK_MONOTONIC, 0, &ts, nil)
		}
		b := make([]byte, 64)
		binary.BigEndian.PutUint32(b, uint32(i))
		sent[i] = time.Now()
		if _, err := unix.Write(fd, b); err != nil {
			return nil, err
		}
	}
	<-done
	out := probed{Sent: n}
	for _, r := range rtts {
		if r > 0 {
			out.RTTs = append(out.RTTs, r)
		}
	}
	return out, nil
}

// socket is a UDP socket that hears of ICMP errors.
func socket(to netip.AddrPort, port int) (int, unix.Sockaddr, error) {
	family, level, option := unix.AF_INET, unix.IPPROTO_IP, unix.IP_RECVERR
	var sa, any unix.Sockaddr
	if to.Addr().Is4() {
		sa, any = &unix.SockaddrInet4{Port: int(to.Port()), Addr: to.Addr().As4()}, &unix.SockaddrInet4{Port: port}
	} else {
		family, level, option = unix.AF_INET6, unix.IPPROTO_IPV6, unix.IPV6_RECVERR
		sa, any = &unix.SockaddrInet6{Port: int(to.Port()), Addr: to.Addr().As16()}, &unix.SockaddrInet6{Port: port}
	}
	fd, err := unix.Socket(family, unix.SOCK_DGRAM, 0)
	if err != nil {
		return -1, nil, err
	}
	if err := errors.Join(unix.Bind(fd, any), unix.SetsockoptInt(fd, level, option, 1)); err != nil {
		return -1, nil, err
	}
	return fd, sa, nil
}

// offender waits for an ICMP error and says who sent it.
func offender(fd int) (string, error) {
	fds := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLERR}}
	for {
		n, err := unix.Poll(fds, 2000)
		if errors.Is(err, unix.EINTR) { // by a signal of the Go runtime
			continue
		}
		if err != nil || n == 0 {
			return "", err
		}
		break
	}
	oob := make([]byte, 512)
	_, n, _, _, err := unix.Recvmsg(fd, make([]byte, 2048), oob, unix.MSG_ERRQUEUE)
	if err != nil {
		return "", err
	}
	messages, err := unix.ParseSocketControlMessage(oob[:n])
	if err != nil {
		return "", err
	}
	for _, m := range messages {
		const header = 16 // struct sock_extended_err, then the offender's address
		switch {
		case m.Header.Level == unix.IPPROTO_IP && m.Header.Type == unix.IP_RECVERR && len(m.Data) >= header+8:
			return netip.AddrFrom4([4]byte(m.Data[header+4 : header+8])).String(), nil
		case m.Header.Level == unix.IPPROTO_IPV6 && m.Header.Type == unix.IPV6_RECVERR && len(m.Data) >= header+24:
			return netip.AddrFrom16([16]byte(m.Data[header+8 : header+24])).String(), nil
		}
	}
	return "", nil
}

// hops sends packets of a TTL from a number of ports and says who answered each.
func hops(args []string) (any, error) {
	to, err := netip.ParseAddrPort(args[0])
	if err != nil {
		return nil, err
	}
	ttl, _ := strconv.Atoi(args[1])
	flows, _ := strconv.Atoi(args[2])
	var seen []string
	for i := range flows {
		fd, sa, err := socket(to, 42000+i)
		if err != nil {
			return nil, err
		}
		if to.Addr().Is4() {
			err = unix.SetsockoptInt(fd, unix.IPPROTO_IP, unix.IP_TTL, ttl)
		} else {
			err = unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_UNICAST_HOPS, ttl)
		}
		if err := errors.Join(err, unix.Sendto(fd, []byte("who is there"), 0, sa)); err != nil {
			return nil, err
		}
		who, err := offender(fd)
		if err != nil {
			return nil, err
		}
		seen = append(seen, who)
		_ = unix.Close(fd)
	}
	return seen, nil
}

// size sends a packet that may not be cut, and says what the kernel then holds
// the path MTU to be.
func size(args []string) (any, error) {
	to, err := netip.ParseAddrPort(args[0])
	if err != nil {
		return nil, err
	}
	bytes, _ := strconv.Atoi(args[1])
	fd, sa, err := socket(to, 0)
	if err != nil {
		return nil, err
	}
	level, discover, value := unix.IPPROTO_IP, unix.IP_MTU_DISCOVER, unix.IP_MTU
	if to.Addr().Is6() {
		level, discover, value = unix.IPPROTO_IPV6, unix.IPV6_MTU_DISCOVER, unix.IPV6_MTU
	}
	if err := errors.Join(unix.SetsockoptInt(fd, level, discover, unix.IP_PMTUDISC_DO), unix.Connect(fd, sa)); err != nil {
		return nil, err
	}
	if _, err := unix.Write(fd, make([]byte, bytes)); err != nil {
		return nil, err
	}
	who, err := offender(fd)
	if err != nil {
		return nil, err
	}
	mtu, err := unix.GetsockoptInt(fd, level, value)
	return map[string]any{"by": who, "mtu": mtu}, err
}

type taken struct{ Bytes, Seconds float64 }

// take accepts one TCP connection and reads it to its end.
func take(args []string) (any, error) {
	l, err := net.Listen("tcp", ":"+args[0])
	if err != nil {
		return nil, err
	}
	ready()
	c, err := l.Accept()
	if err != nil {
		return nil, err
	}
	b := make([]byte, 256<<10)
	n, err := c.Read(b)
	began := time.Now()
	var total int64
	for err == nil {
		n, err = c.Read(b)
		total += int64(n)
	}
	if !errors.Is(err, io.EOF) && !errors.Is(err, syscall.ECONNRESET) {
		return nil, err
	}
	return taken{float64(total), time.Since(began).Seconds()}, nil
}

// give sends over TCP for a time.
func give(args []string) (any, error) {
	c, err := net.Dial("tcp", args[0])
	if err != nil {
		return nil, err
	}
	defer c.Close()
	span, err := time.ParseDuration(args[1])
	if err != nil {
		return nil, err
	}
	b := make([]byte, 256<<10)
	for limit := time.Now().Add(span); time.Now().Before(limit); {
		if _, err := c.Write(b); err != nil {
			return nil, err
		}
	}
	return nil, nil
}

// blast sends packets of 972 bytes (1000 with their headers) at twice a rate.
func blast(args []string) (any, error) {
	c, err := net.Dial("udp", args[0])
	if err != nil {
		return nil, err
	}
	n, _ := strconv.Atoi(args[1])
	every, err := time.ParseDuration(args[2])
	if err != nil {
		return nil, err
	}
	began := time.Now()
	for i := range n {
		for time.Until(began.Add(time.Duration(i)*every)) > 100*time.Microsecond {
			_ = unix.Nanosleep(&unix.Timespec{Nsec: 100_000}, nil)
		}
		_, _ = c.Write(make([]byte, 972)) // refused once the other end has counted enough
	}
	return n, nil
}

// count takes packets for a time after the first and says at what rate they came:
// the middle one of ten stretches, so that a moment in which this machine did
// something else does not count.
func count(args []string) (any, error) {
	c, err := net.ListenPacket("udp", ":"+args[0])
	if err != nil {
		return nil, err
	}
	fd, err := plain(c.(*net.UDPConn))
	if err != nil {
		return nil, err
	}
	span, err := time.ParseDuration(args[1])
	if err != nil {
		return nil, err
	}
	over := unix.NsecToTimeval(int64(10 * time.Second))
	if err := errors.Join(unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1), unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &over)); err != nil {
		return nil, err
	}
	ready()
	b, oob := make([]byte, 2048), make([]byte, 256)
	var times []time.Time
	for len(times) == 0 || times[len(times)-1].Sub(times[0]) < span {
		_, extra, _, _, err := unix.Recvmsg(fd, b, oob, 0)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if errors.Is(err, unix.EAGAIN) { // the sender had less time than it thought: that is all
			break
		}
		if err != nil {
			return nil, err
		}
		times = append(times, arrived(oob[:extra]))
	}
	const stretches = 10
	if len(times) < 2*stretches {
		return 0.0, nil
	}
	var rates []float64
	n := len(times) / stretches
	for i := range stretches {
		took := times[(i+1)*n-1].Sub(times[i*n]).Seconds()
		rates = append(rates, float64(n-1)*1000*8/took)
	}
	slices.Sort(rates)
	return rates[stretches/2], nil
}
