package readiness

// Part is one of the things that are looked at, in the order from near to far.
type Part string

// The parts.
const (
	Near     Part = "near"     // the first hop
	Names    Part = "names"    // the resolver
	Ports    Part = "ports"    // hosts and their ports
	Rest     Part = "rest"     // the round trip while nothing is sent
	Packets  Part = "packets"  // how large packets may be
	Streams  Part = "streams"  // those of all seats at once
	Rates    Part = "rates"    // how much fits, each way
	Loaded   Part = "loaded"   // the round trip meanwhile
	Route    Part = "route"    // the way there
	WayBack  Part = "way_back" // the way back, from the far end
	Priority Part = "priority" // whether service classes arrive as they were sent
)

// Facts are what was measured. What is nil was not measured; Untold says why, by the part.
type Facts struct {
	Near    *Trip           `json:"near,omitempty"`
	Gateway string          `json:"gateway,omitempty"`
	Names   []Lookup        `json:"names,omitempty"`
	Ports   []Port          `json:"ports,omitempty"`
	Rest    *Trip           `json:"rest,omitempty"`
	MTU     *MTU            `json:"mtu,omitempty"`
	Streams []StreamSeen    `json:"streams,omitempty"` // of each try, each stream and direction
	Rates   []RateSeen      `json:"rates,omitempty"`
	There   []string        `json:"route_there,omitempty"` // hops by address and name; ? where nobody answered
	Back    []string        `json:"route_back,omitempty"`
	Untold  map[Part]string `json:"untold,omitempty"`
	Tried   []int           `json:"seats_tried,omitempty"` // with how many seats streams were sent
}

// Trip is a round trip.
type Trip struct {
	MedianMs *float64 `json:"median_ms"`
	P95Ms    *float64 `json:"p95_ms"`
	Sent     int      `json:"sent"`
	Lost     int      `json:"lost"`
}

// Lookup is a name that was looked for.
type Lookup struct {
	Name     string   `json:"name"`
	TookMs   *float64 `json:"took_ms"`
	Resolver string   `json:"resolver,omitempty"`
	Problem  string   `json:"problem,omitempty"`
}

// State is how a port answered.
type State string

// The states.
const (
	Open    State = "open"
	Refused State = "refused" // by the host, or by somebody on the way
	Silent  State = "silent"
	Unknown State = "not_told" // it could not be asked
)

// Port is a port that was asked.
type Port struct {
	Host    string   `json:"host"`
	Port    int      `json:"port"`
	UDP     bool     `json:"udp,omitempty"`
	State   State    `json:"state"`
	TookMs  *float64 `json:"took_ms,omitempty"`
	Problem string   `json:"problem,omitempty"`
}

// MTU is how large IP packets come through whole, in bytes; 0 where none of any size came back.
type MTU struct {
	There int `json:"there_bytes"`
	Back  int `json:"back_bytes"`
	Tried int `json:"tried_bytes"` // larger ones were not tried
}

// StreamSeen is what one direction of one kind of stream met, of so many seats at once.
type StreamSeen struct {
	Stream      string   `json:"stream"`
	Seats       int      `json:"seats"`
	There       bool     `json:"there"`
	Sent        int      `json:"sent"`
	Lost        *int     `json:"lost"`
	LossRatio   *float64 `json:"loss_ratio"`
	LossLow     *float64 `json:"loss_low_ratio"`
	LossHigh    *float64 `json:"loss_high_ratio"`
	DelayMs     *float64 `json:"delay_mean_ms"`
	DelayErrMs  float64  `json:"delay_error_ms"`
	VariationMs *float64 `json:"variation_ms"`
	MOS         *float64 `json:"mos,omitempty"` // of the worst call
	DSCP        *int     `json:"dscp_sent,omitempty"`
	Kept        *float64 `json:"dscp_kept_ratio,omitempty"` // of what arrived
	Arrived     string   `json:"dscp_arrived,omitempty"`    // as what the rest did
	LateSent    int      `json:"late_sent"`                 // by this host's, or the far one's, own doing
}

// RateSeen is how much came through, one way.
type RateSeen struct {
	There    bool     `json:"there"`
	Bps      *float64 `json:"bps"` // bits of payload a second
	LoadedMs *float64 `json:"rtt_loaded_ms"`
	OfHost   bool     `json:"limited_by_host,omitempty"`
	Rising   bool     `json:"still_rising,omitempty"` // it had not found its rate when the time was over
	Problem  string   `json:"problem,omitempty"`
}
