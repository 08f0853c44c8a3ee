package acceptance_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/capacity"
)

func TestAmounts(t *testing.T) {
	for text, want := range map[string]string{"20M": "20M", "1.5G": "1.5G", "1488fps": "1488fps", "14.88kfps": "14880fps", "95%": "95%", "there 100M back 20M": "there 100M back 20M", "back 5M": "back 5M", "": "",
		"there 5M back 5M": "5M", "64000": "64k"} {
		w := ways(t, text)
		if text == "14.88kfps" {
			assert.InDelta(t, 14880, w.There.Value, 1e-6)
			continue
		}
		assert.Equal(t, want, w.String())
		assert.Equal(t, w, ways(t, w.String()), "it reads what it writes")
	}
	for _, text := range []string{"fast", "-5M", "0", "120%", "there", "there 5M there 6M", "there 5M sideways 6M", "there 5M back", "NaN", "Inf", "1e400"} {
		var w acceptance.Ways
		assert.Error(t, w.UnmarshalText([]byte(text)), text)
	}
	var s acceptance.Share
	require.NoError(t, json.Unmarshal([]byte(`"0.1%"`), &s))
	assert.InDelta(t, 0.001, s.Value, 1e-15)
	assert.Equal(t, "0.1%", s.String())
	require.NoError(t, json.Unmarshal([]byte(`0`), &s))
	assert.Equal(t, acceptance.ShareOf(0), s, "that nothing is allowed can be said")
	assert.Error(t, json.Unmarshal([]byte(`"150%"`), &s))
	var d acceptance.Span
	require.NoError(t, d.UnmarshalText([]byte("15m")))
	assert.Equal(t, "15m", d.String())
	assert.Error(t, d.UnmarshalText([]byte("-1s")))
}

// TestFramesALine: RFC 2544 appendix B, frames a second of Ethernet at 10 Mbit/s.
func TestFramesALine(t *testing.T) {
	p := acceptance.Plan{Line: ways(t, "10M"), BySize: &acceptance.BySize{}, First: acceptance.First{Skip: true}, Host: acceptance.HostCheck{Skip: true}}
	for size, fps := range map[int]float64{64: 14880, 128: 8445, 256: 4528, 512: 2349, 1024: 1197, 1280: 961, 1518: 812} {
		p.BySize.Sizes = []int{size}
		next := acceptance.Walk(p, nil).Next
		require.NotNil(t, next)
		assert.InDelta(t, fps, next.Loads[0].FPS, 1, "%d bytes", size)
	}
}

func TestPacking(t *testing.T) {
	for _, c := range []struct {
		name           string
		p              acceptance.Packing
		least, payload int // of frames of 512 bytes
		ip             int
	}{
		{"IPv4", acceptance.Packing{Family: 4}, 64, 466, 494},
		{"IPv6: the header is 20 bytes more", acceptance.Packing{Family: 6}, 84, 446, 494},
		{"frames alone", acceptance.Packing{}, 64, 490, 494},
		{"frames alone, with two tags and four labels", acceptance.Packing{Tags: 2, Labels: 4}, 66, 464, 470},
		{"two tags and a label", acceptance.Packing{Family: 4, Tags: 2, Labels: 1}, 76, 454, 482},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.least, c.p.Least())
			assert.Equal(t, c.payload, c.p.Payload(512))
			assert.Equal(t, c.ip, c.p.At(512, capacity.IP))
			assert.Equal(t, 532, c.p.At(512, capacity.Line))
			assert.NoError(t, c.p.Fits(c.least))
			assert.Error(t, c.p.Fits(c.least-1))
			assert.Equal(t, c.least, c.p.UsualSizes()[0])
		})
	}
	r := acceptance.Packing{Family: 4}.RatesOf(1000, []int{512})
	assert.Equal(t, acceptance.Rates{FPS: 1000, PayloadBps: 3_728_000, IPBps: 3_952_000, FrameBps: 4_096_000, LineBps: 4_256_000}, r)
}

func TestMix(t *testing.T) {
	p := acceptance.Packing{Family: 4}
	for text, want := range map[string][]int{"512": {512}, "64, 1518": {64, 1518}, "emix:abceg": {64, 128, 256, 1024, 1518}, "emix:fhd": {1280, 1518, 512}, "emix:au9000b": {64, 9000, 128}} {
		list, err := acceptance.Mix(text, 1500, p)
		require.NoError(t, err, text)
		assert.Equal(t, want, list)
	}
	list, err := acceptance.Mix("random:64-1518", 1500, p)
	require.NoError(t, err)
	again, err := acceptance.Mix("random:64-1518", 1500, p)
	require.NoError(t, err)
	assert.Equal(t, list, again, "both ends send the same")
	assert.InDelta(t, 791, p.MeanAt(list, capacity.Frame), 60)
	six, err := acceptance.Mix("emix:ab", 1500, acceptance.Packing{Family: 6})
	require.NoError(t, err)
	assert.Equal(t, []int{84, 128}, six, "what has no room for the headers is the least that has")
	for text, says := range map[string]string{"63": "64 to 9600", "emix:": "letters", "emix:xyz": "no letter", "emix:u": "stands behind it", "random:5": "random:64-1518", "random:900-100": "random", "big": "no frame size", "9601": "9600"} {
		_, err := acceptance.Mix(text, 1500, p)
		assert.ErrorContains(t, err, says, text)
	}
	_, err = acceptance.Mix("emix:h", 0, p)
	assert.ErrorContains(t, err, "give mtu")
}
