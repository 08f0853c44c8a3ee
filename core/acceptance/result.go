package acceptance

import (
	"woodlark.example/core/capacity"
)

// Result is what a test found, as far as it went.
type Result struct {
	// Verdict is that of all criteria; of what did not come to its end it cannot be told.
	Verdict  Verdict         `json:"verdict"`
	Criteria []Criterion     `json:"criteria"`
	Host     []HostRate      `json:"host,omitempty"`
	Look     *Look           `json:"look,omitempty"`
	Highest  []Step          `json:"highest,omitempty"` // of the first look, each way
	Sizes    []SizeResult    `json:"sizes,omitempty"`
	Services []ServiceResult `json:"services,omitempty"`
	// Stopped is why the rest would be wasted; empty when all is done that the plan says.
	Stopped string   `json:"stopped,omitempty"`
	Notes   []string `json:"notes,omitempty"`
	Trials  int      `json:"trials"`
	Again   int      `json:"repeated_trials"` // because this host was late
}

// Rates are one rate by its layers.
type Rates struct {
	FPS        float64 `json:"frames_per_second"`
	PayloadBps float64 `json:"payload_bps"`
	IPBps      float64 `json:"ip_bps"`
	FrameBps   float64 `json:"frame_bps"` // with FCS
	LineBps    float64 `json:"line_bps"`  // with preamble and gap
}

// RatesOf are those of frames that follow each other.
func (p Packing) RatesOf(fps float64, frames []int) Rates {
	at := func(l capacity.Layer) float64 { return fps * 8 * p.MeanAt(frames, l) }
	return Rates{fps, at(capacity.Payload), at(capacity.IP), at(capacity.Frame), at(capacity.Line)}
}

// HostRate is what this host sends to itself at a size.
type HostRate struct {
	Size  int   `json:"frame_bytes"`
	Rates Rates `json:"rates"`
}

// SizeResult is what was found with frames of a size.
type SizeResult struct {
	Size int       `json:"frame_bytes"`
	Ways []SizeWay `json:"directions"`
}

// SizeWay is one direction of it. What was not measured is nil.
type SizeWay struct {
	There      bool              `json:"there"`
	Throughput *ThroughputResult `json:"throughput,omitempty"`
	Latency    *LatencyResult    `json:"latency,omitempty"`
	Loss       []Step            `json:"frame_loss,omitempty"`
	Burst      *BurstResult      `json:"back_to_back,omitempty"`
}

// ThroughputResult is the highest rate that is carried.
type ThroughputResult struct {
	Rates Rates `json:"rates"`
	// Highest is the lowest rate that was not carried; 0 when the highest that was asked for is.
	Above   float64   `json:"not_carried_fps,omitempty"`
	Most    float64   `json:"most_fps"` // that was asked for
	Trials  []float64 `json:"trials_fps"`
	Tried   []Step    `json:"tried"`
	Limited string    `json:"limited_by_host,omitempty"`
	// TooLarge says that frames of this size do not fit.
	TooLarge bool `json:"too_large,omitempty"`
}

// Step is what was offered for a while, and what of it arrived.
type Step struct {
	Share    float64  `json:"of_most_ratio,omitempty"` // of the highest rate, or of CIR
	Offered  Rates    `json:"offered"`
	Received Rates    `json:"received"`
	Sent     int64    `json:"sent"`
	Lost     int64    `json:"lost"`
	Loss     *float64 `json:"loss_ratio"`
	LossLow  *float64 `json:"loss_low_ratio"` // 95 % interval
	LossHigh *float64 `json:"loss_high_ratio"`
	Delay    *Delay   `json:"delay,omitempty"`
	Growth   *float64 `json:"growth,omitempty"`
	Ours     string   `json:"ours,omitempty"`
}

// LatencyResult is how long frames took at a rate.
type LatencyResult struct {
	Rates  Rates     `json:"rates"`
	Delay  Delay     `json:"delay"`          // means of the trials; least and most of all
	Trials []float64 `json:"trials_mean_ms"` // RFC 2544 §26.2
}

// BurstResult is the longest burst that is carried whole.
type BurstResult struct {
	Frames float64 `json:"frames"` // mean of the trials
	Least  int     `json:"least_frames"`
	Most   int     `json:"most_frames"`
	SD     float64 `json:"sd_frames"`
	Trials []int   `json:"trials_frames"`
	// Rate is how fast the bursts left.
	Rate Rates `json:"rate"`
	// Buffer is how much of the longest burst waited, as frames went on meanwhile (RFC 9004 §5):
	// absent when the throughput is not known.
	Buffer   *float64 `json:"buffer_frames,omitempty"`
	BufferMs *float64 `json:"buffer_ms,omitempty"`
	All      bool     `json:"all_carried"` // also the longest that was tried
}

// ServiceResult is what was found of a service.
type ServiceResult struct {
	Service string       `json:"service"`
	Frames  []int        `json:"frame_bytes,omitempty"`
	Ways    []ServiceWay `json:"directions"`
}

// ServiceWay is one direction of it.
type ServiceWay struct {
	There    bool       `json:"there"`
	CIR      Rates      `json:"cir"`
	EIR      Rates      `json:"eir"`
	Steps    []Step     `json:"steps,omitempty"`
	Excess   *Step      `json:"cir_and_eir,omitempty"`
	Policing *Step      `json:"policing,omitempty"`
	Green    *Step      `json:"green,omitempty"`             // within CIR, while more was offered, where frames are marked
	Through  *float64   `json:"policed_frame_bps,omitempty"` // what policing let through in the end
	CBS      *BurstSize `json:"cbs,omitempty"`
	EBS      *BurstSize `json:"ebs,omitempty"`
	Run      *Performed `json:"performance,omitempty"`
}

// BurstSize is how large a burst is carried.
type BurstSize struct {
	Asked int     `json:"asked_bytes"` // that was sent at once
	Found float64 `json:"found_bytes"` // that was carried whole; all of what was asked when nothing was lost
	Whole bool    `json:"whole"`
	Lost  int64   `json:"lost"`
}

// Performed is what a performance test found.
type Performed struct {
	Step
	Seconds      Availability `json:"seconds"`
	Availability *float64     `json:"availability_ratio"`
}
