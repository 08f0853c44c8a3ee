package lab

import (
	"encoding/binary"
	"net/netip"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/wire"
)

const (
	lagRounds = 40
	rarely    = lagRounds / 2 // from this one on they come seldom
	lagOften  = time.Millisecond
	lagSeldom = 8 * time.Millisecond
	mostLag   = 300 * time.Microsecond
	lagPort   = 9 // where the probes of it seem to go; they get no further than here
)

// lags are how long this machine takes to wake a reader that slept shortly, and
// one that slept for long.
type lags struct{ short, long time.Duration }

// after is what to take off after a sleep.
func (l lags) after(slept time.Duration) time.Duration {
	if slept >= lagSeldom/2 {
		return l.long
	}
	return min(slept, l.short)
}

// lags measures how long after a host has sent a packet a reader that slept sees
// it: on many machines tens of microseconds, which would be added to the delay
// of every link. It is measured once, when the lab is made, with packets that
// the world never sees; 0 when it cannot be.
func (e *End) lags(from netip.Addr) lags {
	sent := make(chan []time.Time, 1)
	go func() {
		var times []time.Time
		_ = e.Enter(func() (err error) {
			times, err = sendLagProbes(from)
			return err
		})
		sent <- times
	}()
	heard := e.hearLagProbes()
	var short, long []time.Duration
	for i, at := range <-sent {
		switch {
		case heard[i].IsZero():
		case i < rarely:
			short = append(short, heard[i].Sub(at))
		default:
			long = append(long, heard[i].Sub(at))
		}
	}
	return lags{quarter(short), quarter(long)}
}

// quarter is the lower quartile, so that rather too little is taken off than
// too much; 0 for too few.
func quarter(values []time.Duration) time.Duration {
	if len(values) < rarely/2 {
		return 0
	}
	slices.Sort(values)
	return max(0, min(mostLag, values[len(values)/4]))
}

func sendLagProbes(from netip.Addr) ([]time.Time, error) {
	family, to := unix.AF_INET, unix.Sockaddr(&unix.SockaddrInet4{Port: lagPort, Addr: [4]byte{203, 0, 113, 254}})
	if from.Is6() {
		six := &unix.SockaddrInet6{Port: lagPort, Addr: netip.MustParseAddr("2001:db8:ffff::fe").As16()}
		family, to = unix.AF_INET6, six
	}
	fd, err := unix.Socket(family, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	times := make([]time.Time, lagRounds)
	for i := range times {
		every := lagOften
		if i >= rarely {
			every = lagSeldom
		}
		pause := unix.NsecToTimespec(every.Nanoseconds())
		_ = unix.Nanosleep(&pause, nil)
		b := make([]byte, 4)
		binary.BigEndian.PutUint32(b, uint32(i))
		times[i] = time.Now()
		if err := unix.Sendto(fd, b, 0, to); err != nil {
			return nil, err
		}
	}
	return times, nil
}

// hearLagProbes reads them as they leave the host.
func (e *End) hearLagProbes() [lagRounds]time.Time {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	var heard [lagRounds]time.Time
	fds := []unix.PollFd{{Fd: int32(e.Packets()), Events: unix.POLLIN}}
	b := make([]byte, packetRoom)
	for limit := time.Now().Add(5 * lagRounds * lagSeldom); time.Now().Before(limit); {
		if n, err := unix.Poll(fds, int(lagSeldom/time.Millisecond)*10); n == 0 && err == nil {
			break // they have all passed, or never will
		}
		size, err := unix.Read(e.Packets(), b)
		now := time.Now()
		if err != nil {
			continue
		}
		_, payload, err := wire.ParseIP(b[:size])
		if err != nil {
			continue
		}
		u, err := wire.ParseUDP(payload)
		if err != nil || u.DstPort != lagPort || len(u.Payload) != 4 {
			continue
		}
		if i := binary.BigEndian.Uint32(u.Payload); i < lagRounds {
			heard[i] = now
			if i == lagRounds-1 {
				break
			}
		}
	}
	return heard
}
