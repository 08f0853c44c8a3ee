package capture_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/capture"
)

func TestThereAndBack(t *testing.T) {
	name := filepath.Join(t.TempDir(), "trace.pcapng")
	f, err := capture.Create(name)
	require.NoError(t, err)
	at := time.Date(2026, 11, 18, 12, 0, 0, 123456789, time.UTC)
	f.Packet(at, []byte{0x45, 1, 2, 3})
	f.Packet(at.Add(1500*time.Nanosecond), []byte{0x60, 4})
	require.NoError(t, f.Close())
	require.NoError(t, f.Close(), "once more is no harm")
	f.Packet(at, []byte{1}) // nor a packet that comes late

	in, err := os.Open(name)
	require.NoError(t, err)
	defer in.Close()
	r, err := pcapgo.NewNgReader(in, pcapgo.DefaultNgReaderOptions)
	require.NoError(t, err)
	assert.Equal(t, layers.LinkTypeRaw, r.LinkType())
	for _, want := range []struct {
		data []byte
		at   time.Time
	}{{[]byte{0x45, 1, 2, 3}, at}, {[]byte{0x60, 4}, at.Add(1500 * time.Nanosecond)}} {
		data, info, err := r.ReadPacketData()
		require.NoError(t, err)
		assert.Equal(t, want.data, data)
		assert.Equal(t, want.at, info.Timestamp.UTC(), "to the nanosecond")
	}
	_, err = capture.Create(name)
	require.ErrorContains(t, err, "is there already")
	_, err = capture.Create(filepath.Join(t.TempDir(), "none", "x"))
	require.ErrorContains(t, err, "capture:")
}
