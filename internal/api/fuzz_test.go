package api

import (
	"bytes"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

// FuzzUpload feeds what an agent may send: it is refused, or an upload that is written and
// read again as it was.
func FuzzUpload(f *testing.F) {
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	probes := []reading.Probe{{DueAt: at, Outcome: reading.Answered, RTT: time.Millisecond}}
	u := protocol.Upload{Readings: []protocol.Record{{Path: ident.New(), Reading: reading.Of(at, time.Minute, 1, time.Minute, probes), Packed: reading.Pack(at, probes)}},
		Runs: []protocol.Run{{ID: ident.New(), Started: at, Outcome: protocol.Done}}, SentAt: at}
	data, err := json.Marshal(u)
	require.NoError(f, err)
	f.Add(data)
	for _, text := range []string{`{}`, `{"Runs":[]}`, `{"Runs":null}`, `{"Sweeps":[{"Report":null}]}`, `{"Agent":1,"SentAt":"x"}`, `[`, `{"Traces":[{}]}`} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		u, err := decodeUpload(bytes.NewReader(data))
		if err != nil {
			return
		}
		again, err := json.Marshal(u)
		require.NoError(t, err)
		back, err := decodeUpload(bytes.NewReader(again))
		require.NoError(t, err)
		require.Equal(t, len(u.Readings), len(back.Readings))
		require.Equal(t, len(u.Runs), len(back.Runs))
	})
}

// FuzzTables: whatever an answer holds, a table comes of it.
func FuzzTables(f *testing.F) {
	for _, text := range []string{`[]`, `{}`, `[{"a":1,"b":{"c":[1,"x"]}},{"d":null}]`, `{"at":["x","y"],"v":[1,null],"w":[{"k":1}]}`, `{"list":[{"a":"=1"}],"n":2}`, `"x"`, `[1,[2]]`} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !json.Valid([]byte(text)) {
			return
		}
		var b bytes.Buffer
		require.NoError(t, marshalCSV(&b, json.RawMessage(text)))
	})
}
