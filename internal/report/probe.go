package report

import (
	"encoding/json"
	"io"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
)

// probeLine is one probe for machines.
type probeLine struct {
	Target     string    `json:"target"`
	Address    string    `json:"address"`
	Via        string    `json:"via"`
	Number     int       `json:"number"` // of the target's probes, from 0
	DueAt      time.Time `json:"due_at"`
	LateMs     float64   `json:"sent_late_ms"`
	Outcome    string    `json:"outcome"`
	RTTMs      *float64  `json:"rtt_ms"` // null where nothing came back
	Timestamps string    `json:"timestamps"`
	TTL        *int      `json:"ttl"` // of the answer; null where it is not known
	Cause      string    `json:"cause"`
	AnsweredAs string    `json:"answered_as"`
	Other      string    `json:"other_address"`
}

// ProbeLine writes a probe as a line of JSON.
func ProbeLine(w io.Writer, target, address, via string, p reading.Probe) error {
	line := probeLine{Target: target, Address: address, Via: via, Number: p.Number, DueAt: p.DueAt.UTC(), LateMs: figure.Millis(p.SentLate), Outcome: p.Outcome.String(),
		Timestamps: p.Stamp.String(), Cause: p.Cause, AnsweredAs: p.As}
	if p.Outcome != reading.Lost && p.Outcome != reading.Unsent {
		ms := figure.Millis(p.RTT)
		line.RTTMs = &ms
	}
	if p.TTL > 0 {
		line.TTL = &p.TTL
	}
	if p.Peer.IsValid() {
		line.Other = p.Peer.String()
	}
	return json.NewEncoder(w).Encode(line)
}
