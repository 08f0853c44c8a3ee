package voice_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/voice"
)

func TestMOS(t *testing.T) {
	// ITU-T G.107 Annex B, table B.1: the limits of the categories of satisfaction.
	for r, mos := range map[float64]float64{90: 4.34, 80: 4.03, 70: 3.60, 60: 3.10, 50: 2.58, 0: 1, -20: 1, 100: 4.5, 120: 4.5, 93.2: 4.41} {
		assert.InDelta(t, mos, voice.MOS(r), 0.01, "R %v", r)
	}
}

func TestRating(t *testing.T) {
	ms := func(n int) time.Duration { return time.Duration(n) * time.Millisecond }
	for _, c := range []struct {
		name string
		call voice.Call
		want float64
	}{
		{"nothing is wrong", voice.Call{Codec: voice.G711}, 93.2},
		{"100 ms do no harm", voice.Call{Codec: voice.G711, Delay: ms(100)}, 93.2},
		// X = log2(1.5) = 0.58496; Idd = 25·(1.04006^(1/6) − 3·1.0000550^(1/6) + 2) = 0.1636
		{"150 ms", voice.Call{Codec: voice.G711, Delay: ms(150)}, 93.0364},
		// X = 2; Idd = 25·(65^(1/6) − 3·(1+(2/3)^6)^(1/6) + 2) = 25·(2.00519 − 3.04237 + 2) = 24.0705
		{"400 ms", voice.Call{Codec: voice.G711, Delay: ms(400)}, 69.1295},
		// Ie,eff = 95·2/(2 + 25.1) = 7.0111
		{"2 % lost at random", voice.Call{Codec: voice.G711, Loss: 0.02}, 86.1889},
		// Ie,eff = 95·2/(2/2 + 25.1) = 7.2797
		{"2 % lost in bursts", voice.Call{Codec: voice.G711, Loss: 0.02, Burst: 2}, 85.9203},
		{"another codec", voice.Call{Codec: voice.G729A}, 82.2},
		// 11 + 84·1/(1 + 19) = 15.2
		{"another codec that loses 1 %", voice.Call{Codec: voice.G729A, Loss: 0.01}, 78},
	} {
		t.Run(c.name, func(t *testing.T) { assert.InDelta(t, c.want, voice.Rating(c.call), 0.002) })
	}
}
