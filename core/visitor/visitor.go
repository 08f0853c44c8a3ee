// Package visitor makes figures of what a browser measured of the way to a service and back, and of
// what the service saw of it meanwhile. Figures that rest on the visitor's word are marked so: who
// sends them may have made them up.
//
//	found := visitor.Find(need, seats, plan, told, seen)
package visitor

import (
	"fmt"
	"time"

	"woodlark.example/core/readiness"
	"woodlark.example/core/voice"
)

// Plan is what a visit measures, the same for the page and the service.
type Plan struct {
	EveryMs   float64 `json:"every_ms"`        // between two packets of a seat
	Bytes     int     `json:"bytes"`           // of payload of each
	Seats     int     `json:"seats"`           // whose packets are sent at once
	Packets   int     `json:"packets"`         // of all seats, each way
	Pings     int     `json:"pings"`           // at rest
	LoadS     float64 `json:"load_s"`          // of filling the line, each way
	WarmUpS   float64 `json:"warm_up_s"`       // of that, left out of the rate
	Streams   int     `json:"streams"`         // side by side
	MostBytes int64   `json:"most_bytes"`      // each way
	Codec     string  `json:"codec,omitempty"` // that the packets are like
	stream    string  // of the need
}

const (
	mostSeats  = 25
	streamFor  = 10 * time.Second
	usualBytes = 172
	usualEvery = 20 * time.Millisecond
	leastEvery = 10 * time.Millisecond
	// MostMessages bounds what comes from a visitor by the data channel.
	MostMessages = 40_000
	// MostTold bounds what a visitor tells, in bytes.
	MostTold = 4 << 20
	// MostWords is how long the visitor's own words may be, in bytes.
	MostWords = 2000
)

// PlanOf is how the need of so many seats is measured by a browser, and what of it cannot be.
func PlanOf(n readiness.Need, seats int) (p Plan, untold map[readiness.Part]string) {
	seats = n.SeatsOr(seats)
	p = Plan{EveryMs: float64(usualEvery) / 1e6, Bytes: usualBytes, Seats: 1, Pings: 30, LoadS: 8, WarmUpS: 2, Streams: 4, MostBytes: 3 << 30}
	untold = map[readiness.Part]string{
		readiness.Names:    "a browser does not tell how long it takes to find a name",
		readiness.Ports:    "a browser reaches no port but this service's",
		readiness.Packets:  "a browser does not tell how large packets may be",
		readiness.Priority: "a browser sends no service classes",
		readiness.Near:     "a browser does not tell of the first hop",
		readiness.Route:    "a browser does not tell of the way",
	}
	every := usualEvery
	for _, s := range n.Streams {
		d, bytes, codec := s.Every.D(), s.Bytes, ""
		if s.Codec != "" {
			c, err := voice.ParseCodec(s.Codec)
			if err != nil || c.Frame > 0 || len(c.Sizes) != 1 {
				continue // of pictures
			}
			d, bytes, codec = c.Packet, c.Sizes[0]+12, s.Codec // with the header of RTP
		}
		if d < leastEvery || bytes <= 0 || bytes > 1000 {
			continue
		}
		every, p.Bytes, p.Codec, p.stream = d, bytes, codec, s.Name
		p.Seats = min(seats, mostSeats)
		break
	}
	p.EveryMs = float64(every) / 1e6
	p.Packets = int(streamFor/every) * p.Seats
	switch {
	case len(n.Streams) > 0 && p.stream == "":
		untold[readiness.Streams] = "a browser's test sends no stream like it"
	case p.stream != "" && seats > p.Seats:
		untold[readiness.Streams] = fmt.Sprintf("a browser's test sends those of %d seats at most", mostSeats)
	case len(n.Streams) > 1:
		untold[readiness.Streams] = fmt.Sprintf("a browser's test sends one kind of stream only, %s", p.stream)
	}
	return p, untold
}

// Phase is what else is sent while a round trip is measured.
type Phase string

// The phases.
const (
	Rest Phase = "rest"
	Down Phase = "down" // to the visitor
	Up   Phase = "up"   // from it
)

// Told is what the visitor says that it measured. Times are of its own clock, in milliseconds.
type Told struct {
	Words   string    `json:"words"` // its own, of the place
	Sent    []float64 `json:"sent"`  // when packets left, by number
	Came    []Came    `json:"came"`  // packets of the service, in the order of arriving
	Echoes  []Trip    `json:"echoes"`
	Trips   []Trip    `json:"trips"` // over HTTP
	Down    []Mark    `json:"down"`
	Blocked string    `json:"blocked,omitempty"` // why packets could not be sent
	Problem string    `json:"problem,omitempty"` // why it broke off
}

// Came is a packet that arrived.
type Came struct {
	Number int     `json:"n"`
	At     float64 `json:"at"`
}

// Trip is a round trip; Ms is absent when no answer came.
type Trip struct {
	Phase Phase    `json:"phase"`
	Ms    *float64 `json:"ms"`
}

// Mark is how much had come at a time.
type Mark struct {
	At    float64 `json:"at"`
	Bytes int64   `json:"bytes"`
}

// Seen is what the service saw itself. Times count from the beginning of the visit.
type Seen struct {
	Came []Came // packets of the visitor; milliseconds
	Sent []float64
	Up   []Mark
}
