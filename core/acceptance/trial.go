package acceptance

import (
	"time"
)

// Part is which test a trial is of.
type Part string

// The parts, in the order in which they are gone through.
const (
	OfHost        Part = "host"
	FirstLook     Part = "first_look"
	Throughput    Part = "throughput_search" // RFC 2544 §26.1
	Latency       Part = "latency"           // §26.2
	FrameLoss     Part = "frame_loss"        // §26.3
	BackToBack    Part = "back_to_back"      // §26.4
	Committed     Part = "cir"               // ITU-T Y.1564 §8.1.1.1
	Excess        Part = "cir_and_eir"       // §8.1.1.2
	Policing      Part = "policing"          // §8.1.1.3
	CommittedSize Part = "cbs"               // §8.1.1.4
	ExcessSize    Part = "ebs"
	Performing    Part = "performance" // §8.1.2
)

// Trial is one sending of frames, with what is waited for around it.
type Trial struct {
	Part    Part   `json:"part"`
	Size    int    `json:"frame_bytes,omitempty"` // of tests by frame size
	Service string `json:"service,omitempty"`
	Says    string `json:"says"` // which it is, for people
	Loads   []Load `json:"loads"`
	For     Span   `json:"for"`
	Again   int    `json:"again,omitempty"` // how often it was made before, when this host was late
}

// Load is what is sent in one direction, of one service.
type Load struct {
	There   bool    `json:"there"`
	Service int     `json:"service_index"` // -1 when it is of none
	Colour  string  `json:"colour,omitempty"`
	FPS     float64 `json:"frames_per_second"`
	Frames  []int   `json:"frame_bytes"` // that follow each other, again and again
	// Burst frames leave as close behind each other as this host can; 0 when they are paced.
	Burst   int  `json:"burst_frames,omitempty"`
	Seconds bool `json:"each_second,omitempty"` // what was lost is to be told second by second
}

// Outcome is what came of a trial.
type Outcome struct {
	Started time.Time `json:"started_at"`
	Took    Span      `json:"took"`
	Seen    []Seen    `json:"seen"` // of each load
	Look    *Look     `json:"look,omitempty"`
	// Problem is why it could not be carried out; nothing can be told then.
	Problem string `json:"problem,omitempty"`
}

// Seen is what became of a load.
type Seen struct {
	Sent       int64 `json:"sent"`
	SentBytes  int64 `json:"sent_frame_bytes"`
	Received   int64 `json:"received"` // each frame once
	Bytes      int64 `json:"received_frame_bytes"`
	Duplicates int64 `json:"duplicates"`
	Reordered  int64 `json:"reordered"`
	Damaged    int64 `json:"damaged"`
	// Whole is how many frames from the first on came before one that did not.
	Whole int64 `json:"whole"`
	// Offered is at how many frames a second they really left.
	Offered float64 `json:"offered_fps"`
	// Steady is at how many frames a second they arrived in the second half, when what was
	// saved up in buckets is spent.
	Steady *float64 `json:"steady_fps,omitempty"`
	// Growth is by how much later the frames arrive, for each second that passes, in the second
	// half of the trial: above 0 they wait in a queue that grows.
	Growth *float64 `json:"growth,omitempty"`
	Delay  *Delay   `json:"delay,omitempty"`
	// Marks are how many frames arrived with each DSCP.
	Marks map[int]int64 `json:"dscps,omitempty"`
	// Bad are the seconds that lost something, of loads that are told second by second; Of is
	// how many seconds there are.
	Bad []BadSecond `json:"bad_seconds,omitempty"`
	Of  int         `json:"seconds,omitempty"`
	// Ours says why what is wrong with it may be this host's, or the far one's, own doing.
	Ours string `json:"ours,omitempty"`
	// Short says that the sending host does not send so fast, and not that it was away for a while.
	Short bool `json:"short,omitempty"`
	// TooLarge says that frames of this size did not fit.
	TooLarge bool `json:"too_large,omitempty"`
}

// BadSecond is a second in which frames were lost.
type BadSecond struct {
	Second int   `json:"second"`
	Sent   int64 `json:"sent"`
	Lost   int64 `json:"lost"`
}

// Of says what a delay is of.
type Of string

// What delays are of.
const (
	OneWay    Of = "one_way"
	HalfRound Of = "half_round_trip" // the clocks are not in step: of the round trip half
	Round     Of = "round_trip"
)

// Delay is how long frames took.
type Delay struct {
	Of      Of      `json:"of"`
	LeastMs float64 `json:"least_ms"`
	MeanMs  float64 `json:"mean_ms"`
	P50Ms   float64 `json:"median_ms"`
	P99Ms   float64 `json:"p99_ms"`
	P999Ms  float64 `json:"p999_ms"`
	MostMs  float64 `json:"most_ms"`
	// ErrorMs is how wrong all of them may be together, by the clocks; what differs between
	// them is exact.
	ErrorMs float64 `json:"error_ms"`
}

// VariationMs is the 99.9 % quantile less the least (ITU-T Y.1541).
func (d Delay) VariationMs() float64 { return d.P999Ms - d.LeastMs }

// Look is what is known of the two ends before anything is loaded.
type Look struct {
	NearLink LinkSide `json:"near"`
	FarLink  LinkSide `json:"far"`
	FarIs    string   `json:"far_is"` // agent, responder, reflector
	RTTMs    *float64 `json:"rtt_ms,omitempty"`
	// Largest IP packets that come through whole, each way; 0 when that is not known.
	MTUThere int `json:"path_mtu_there_bytes,omitempty"`
	MTUBack  int `json:"path_mtu_back_bytes,omitempty"`
}

// LinkSide is an end's link.
type LinkSide struct {
	Interface string  `json:"interface,omitempty"`
	Driver    string  `json:"driver,omitempty"`
	Speed     float64 `json:"speed_bps,omitempty"`
	Duplex    string  `json:"duplex,omitempty"`
	MTU       int     `json:"mtu_bytes,omitempty"`
}

// lost is how many frames of a load did not arrive.
func (s Seen) lost() int64 { return max(0, s.Sent-s.Received) }

const (
	// Settle is how long what is on its way is waited for (RFC 2544 §23).
	Settle = 2 * time.Second
	// mostAgain is how often a trial is made again that this host spoilt.
	mostAgain = 2
)
