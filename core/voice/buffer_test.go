package voice_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/figure"
	"woodlark.example/core/voice"
)

// delays in ms; a negative one was lost.
func delays(list ...float64) (out []figure.Duration) {
	for _, ms := range list {
		if ms < 0 {
			out = append(out, figure.Duration{})
		} else {
			out = append(out, figure.Of(time.Duration(ms*1e6)))
		}
	}
	return out
}

func repeated(n int, ms float64) []float64 {
	list := make([]float64, n)
	for i := range list {
		list[i] = ms
	}
	return list
}

func TestBuffers(t *testing.T) {
	for _, c := range []struct {
		name            string
		buffer          voice.Buffer
		delays          []float64
		lost, discarded int
		delay           float64 // ms
	}{
		{"even", voice.Fixed, repeated(50, 30), 0, 0, 70},
		{"one late by 41 ms", voice.Fixed, append(repeated(49, 30), 71), 0, 1, 70},
		{"one late by 39 ms", voice.Fixed, append(repeated(49, 30), 69), 0, 0, 70},
		{"one lost", voice.Fixed, append(repeated(49, 30), -1), 1, 0, 70},
		{"nothing came", voice.Fixed, []float64{-1, -1}, 2, 0, -1},
		{"an adaptive one shrinks to its least", voice.Adaptive, repeated(2000, 30), 0, 0, 40},
		{"and holds out when the delay grows slowly", voice.Adaptive, rising(2000, 30, 90), 0, 0, 70},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := c.buffer.Play(delays(c.delays...))
			assert.Equal(t, c.lost, p.Lost)
			assert.Equal(t, c.discarded, p.Discarded)
			d, ok := p.Delay.Get()
			assert.Equal(t, c.delay >= 0, ok)
			if ok {
				assert.InDelta(t, c.delay, float64(d)/1e6, 1)
			}
		})
	}
}

func rising(n int, from, to float64) []float64 {
	list := make([]float64, n)
	for i := range list {
		list[i] = from + (to-from)*float64(i)/float64(n)
	}
	return list
}

func TestJudge(t *testing.T) {
	// 30 ms + 40 ms held + 20 ms in a packet do no harm; one of 50 lost:
	// Ie,eff = 95·2/(2/BurstR + 25.1), BurstR of a single loss in 50 is 1·(1−0.02) < 1, so 1.
	q := voice.Judge(voice.G711, voice.Fixed, delays(append(repeated(49, 30), -1)...))
	assert.Equal(t, 90*time.Millisecond, q.Mouth.Or(0))
	assert.InDelta(t, 86.189, q.R.Or(0), 0.001)
	assert.InDelta(t, voice.MOS(86.189), q.MOS.Or(0), 0.001)
	opus := voice.Judge(voice.Opus, voice.Fixed, delays(repeated(10, 30)...))
	assert.True(t, opus.Mouth.IsSet())
	assert.False(t, opus.R.IsSet(), "no factors, no R")
	assert.False(t, voice.Judge(voice.G711, voice.Fixed, nil).R.IsSet())
}

func TestCodecs(t *testing.T) {
	for name, want := range map[string]string{"g711": "G.711", "G.729": "G.729A", "opus": "Opus", "video-720p": "video-720p", "g722": "G.722"} {
		c, err := voice.ParseCodec(name)
		require.NoError(t, err)
		assert.Equal(t, want, c.Name)
	}
	_, err := voice.ParseCodec("speex")
	assert.ErrorContains(t, err, `no codec "speex"; there are G.711`)
	for _, c := range voice.Codecs() {
		assert.NotEmpty(t, c.Sizes, c.Name)
		assert.Positive(t, c.Packet, c.Name)
		assert.Positive(t, c.Clock, c.Name)
	}
}

// TestTheEModel: 24 points, worked from G.107 with another program.
func TestTheEModel(t *testing.T) {
	for _, p := range eModelPoints {
		call := voice.Call{Codec: voice.Codec{Ie: p.ie, Bpl: p.bpl}, Delay: time.Duration(p.delay) * time.Millisecond, Loss: p.percent / 100, Burst: p.burst}
		assert.InDelta(t, p.r, voice.Rating(call), 0.01, "%+v", p)
		assert.InDelta(t, p.mos, voice.MOS(p.r), 0.01, "%+v", p)
	}
}
