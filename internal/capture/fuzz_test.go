package capture_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/capture"
)

// FuzzCapture: whatever is captured is read again as it was.
func FuzzCapture(f *testing.F) {
	f.Add([]byte{0x45, 0, 0, 20})
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, packet []byte) {
		name := filepath.Join(t.TempDir(), "x.pcapng")
		c, err := capture.Create(name)
		require.NoError(t, err)
		c.Packet(time.Unix(1e9, 1), packet)
		require.NoError(t, c.Close())
		file, err := os.Open(name)
		require.NoError(t, err)
		defer file.Close()
		r, err := pcapgo.NewNgReader(file, pcapgo.DefaultNgReaderOptions)
		require.NoError(t, err)
		data, about, err := r.ReadPacketData()
		require.NoError(t, err)
		require.Equal(t, len(packet), about.CaptureLength)
		require.Equal(t, string(packet), string(data))
	})
}
