package paced

import (
	"time"

	"woodlark.example/core/oneway"
	"woodlark.example/wire"
)

// reportsOf are the RTCP sender reports of all calls, with what came of the call the
// other way (RFC 3550 §6.4).
func (d *Duplex) reportsOf(now time.Time, packets, bytes []int) [][]byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	var list [][]byte
	since := now.Sub(d.begun)
	for call := range d.Out.Calls {
		if packets[call] == 0 {
			continue
		}
		r := wire.SenderReport{Source: d.Out.First + uint32(call), Sent: now, Timestamp: uint32(int64(since) * int64(d.Out.Clock) / int64(time.Second)),
			Packets: uint32(packets[call]), Bytes: uint32(bytes[call] - packets[call]*wire.RTPHeader)}
		if d.In.Format == RTP && call < len(d.log.Arrivals) && len(d.log.Arrivals[call]) > 0 {
			r.About = d.block(call)
		}
		list = append(list, r.Marshal("woodlark"))
	}
	return list
}

// block is what arrived of a call so far.
func (d *Duplex) block(call int) *wire.ReceptionBlock {
	arrivals := d.log.Arrivals[call]
	highest := d.known[call] - 1
	return &wire.ReceptionBlock{Source: d.In.First + uint32(call), Lost: int32(highest + 1 - len(arrivals)), Highest: uint32(highest),
		Jitter: uint32(int64(jitterOf(arrivals, d.In)) * int64(d.In.Clock) / int64(time.Second))}
}

// jitterOf is that of RFC 3550 §6.4.1 over the last packets, by the times of the media.
func jitterOf(list []oneway.Arrival, s Shape) time.Duration {
	const last = 200
	list = list[max(0, len(list)-last):]
	j := 0.0
	for i := 1; i < len(list); i++ {
		apart := list[i].At.Sub(list[i-1].At) - time.Duration(list[i].Number-list[i-1].Number)*s.Interval
		j += (float64(apart.Abs()) - j) / 16
	}
	return time.Duration(j)
}
