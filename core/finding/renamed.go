package finding

import "encoding/json"

// Reports that were stored, or come from an agent, under the names of an earlier release
// are read all the same.

// renamed gives keys of a JSON object their names of now, where only the old ones are.
func renamed(data []byte, names map[string]string) []byte {
	var object map[string]json.RawMessage
	if json.Unmarshal(data, &object) != nil {
		return data // who reads it says what is wrong
	}
	changed := false
	for old, now := range names {
		v, is := object[old]
		if _, both := object[now]; is && !both {
			object[now] = v
			delete(object, old)
			changed = true
		}
	}
	if !changed {
		return data
	}
	out, err := json.Marshal(object)
	if err != nil {
		return data
	}
	return out
}

// UnmarshalJSON reads the names of now and those before.
func (c *ThroughputConditions) UnmarshalJSON(data []byte) error {
	type plain ThroughputConditions
	return json.Unmarshal(renamed(data, map[string]string{"seconds": "for_s", "warm_up_seconds": "warm_up_s"}), (*plain)(c))
}

// UnmarshalJSON reads the names of now and those before.
func (d *ThroughputDirection) UnmarshalJSON(data []byte) error {
	type plain ThroughputDirection
	return json.Unmarshal(renamed(data, map[string]string{"seconds": "span_s", "intervals": "spans", "retransmits": "resent_segments"}), (*plain)(d))
}

// UnmarshalJSON reads the names of now and those before.
func (s *ThroughputSpan) UnmarshalJSON(data []byte) error {
	type plain ThroughputSpan
	return json.Unmarshal(renamed(data, map[string]string{"seconds": "span_s", "start_seconds": "start_s", "retransmits": "resent_segments"}), (*plain)(s))
}

// UnmarshalJSON reads the names of now and those before.
func (d *StreamDirection) UnmarshalJSON(data []byte) error {
	type plain StreamDirection
	return json.Unmarshal(renamed(data, map[string]string{"intervals": "spans"}), (*plain)(d))
}

// UnmarshalJSON reads the names of now and those before.
func (s *StreamSpan) UnmarshalJSON(data []byte) error {
	type plain StreamSpan
	return json.Unmarshal(renamed(data, map[string]string{"seconds": "span_s", "start_seconds": "start_s"}), (*plain)(s))
}
