package capacity

import (
	"time"

	"woodlark.example/core/figure"
)

// Framework are the TCP figures of RFC 6349.
type Framework struct {
	// TransferRatio is the actual time of a transfer ÷ the ideal one, over the
	// bottleneck's rate (§4.1.1); absent when that is not known.
	TransferRatio figure.Number
	// Efficiency is (bytes sent − bytes sent again) ÷ bytes sent, 0 to 1 (§4.1.2).
	Efficiency figure.Number
	// BufferDelay is (mean RTT in the transfer − least RTT) ÷ least RTT (§4.1.3).
	BufferDelay figure.Number
}

// Transfer is what a TCP transfer is judged by.
type Transfer struct {
	Took        time.Duration
	Bytes       int64 // of payload that arrived
	Segment     int   // bytes of payload a segment
	Family      int
	Segments    int64 // sent, with those sent again; 0 when not known
	Retransmits int64
	LeastRTT    figure.Duration
	MeanRTT     figure.Duration // in the transfer
	Bottleneck  Rate            // of the line at layer 1, when it is known
}

// FrameworkOf computes the figures as far as they can be.
func FrameworkOf(t Transfer) Framework {
	var f Framework
	if t.Segments > 0 {
		f.Efficiency = figure.Of(1 - float64(t.Retransmits)/float64(t.Segments))
	}
	least, ok := t.LeastRTT.Get()
	if mean, ok2 := t.MeanRTT.Get(); ok && ok2 && least > 0 {
		f.BufferDelay = figure.Of(float64(mean-least) / float64(least))
	}
	if t.Bottleneck > 0 && t.Segment > 0 && t.Bytes > 0 {
		framing := Framing{Family: t.Family, Transport: TCP, Payload: t.Segment, Options: 12}
		line, _ := framing.At(1, Line)
		ideal := float64(t.Bytes) * 8 / float64(t.Bottleneck/line)
		f.TransferRatio = figure.Of(t.Took.Seconds() / ideal)
	}
	return f
}
