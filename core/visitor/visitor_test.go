package visitor_test

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/readiness"
	"woodlark.example/core/visitor"
)

func need(t *testing.T, name string) readiness.Need {
	t.Helper()
	n, err := readiness.Find(name)
	require.NoError(t, err)
	return n
}

func ms(v float64) *float64 { return &v }

// world is a visit over a way of known delays, of which some packets are lost and some held back.
type world struct {
	there, back float64 // ms
	lostThere   func(n int) bool
	held        func(n int) bool // of the way back, by 50 ms
	late        float64          // by so much; ms
	offset      float64          // that the visitor's clock is ahead
}

// visit is what both ends note in it.
func (w world) visit(p visitor.Plan) (told visitor.Told, seen visitor.Seen) {
	var late []visitor.Came
	for n := range p.Packets {
		at := 100 + float64(n/p.Seats)*p.EveryMs
		told.Sent = append(told.Sent, at+w.offset)
		seen.Sent = append(seen.Sent, at)
		if w.lostThere == nil || !w.lostThere(n) {
			seen.Came = append(seen.Came, visitor.Came{Number: n, At: at + w.there})
		}
		came := visitor.Came{Number: n, At: at + w.back + w.offset}
		if w.held != nil && w.held(n) {
			came.At += w.late
			late = append(late, came)
			continue
		}
		for len(late) > 0 && late[0].At < came.At {
			told.Came, late = append(told.Came, late[0]), late[1:]
		}
		told.Came = append(told.Came, came)
	}
	told.Came = append(told.Came, late...)
	for range p.Pings {
		told.Echoes = append(told.Echoes, visitor.Trip{Phase: visitor.Rest, Ms: ms(w.there + w.back)})
		told.Trips = append(told.Trips, visitor.Trip{Phase: visitor.Rest, Ms: ms(w.there + w.back + 1)})
	}
	return told, seen
}

// marks are those of a rate in Mbit/s for seconds.
func marks(mbit float64, seconds int) (list []visitor.Mark) {
	for i := 0; i <= seconds*20; i++ {
		at := float64(i) * 50
		list = append(list, visitor.Mark{At: at, Bytes: int64(mbit * 125 * at)})
	}
	return list
}

func TestAVisitsFigures(t *testing.T) {
	n := need(t, "calls")
	p, untold := visitor.PlanOf(n, 4)
	assert.Equal(t, 4, p.Seats)
	assert.Equal(t, 2000, p.Packets, "50 a second of each of four, for ten seconds")
	assert.Equal(t, 172, p.Bytes, "160 of G.711 and 12 of RTP")
	assert.Contains(t, untold, readiness.Names)
	w := world{there: 20, back: 30, offset: 123456, lostThere: func(n int) bool { return n%50 == 7 }, late: 40, held: func(n int) bool { return n%100 == 50 }}
	told, seen := w.visit(p)
	told.Down, seen.Up = marks(80, 8), marks(20, 8)
	told.Echoes = append(told.Echoes, visitor.Trip{Phase: visitor.Down, Ms: ms(90)}, visitor.Trip{Phase: visitor.Up, Ms: ms(140)}, visitor.Trip{Phase: visitor.Up})
	f := visitor.Find(n, 4, told, seen)

	assert.InDelta(t, 51, *f.Rest.MedianMs, 1e-9)
	assert.InDelta(t, 50, *f.Packets.MedianMs, 1e-9)
	require.Len(t, f.Ways, 2)
	there, back := f.Ways[0], f.Ways[1]
	assert.True(t, there.There)
	assert.Equal(t, visitor.ByBoth, there.By)
	assert.Equal(t, 40, *there.Lost)
	assert.InDelta(t, 0.02, *there.LossRatio, 1e-12)
	assert.Zero(t, there.Reordered)
	assert.Equal(t, visitor.ByVisitor, back.By)
	assert.Zero(t, *back.Lost)
	assert.Equal(t, 20, back.Reordered, "one of a hundred, 40 ms late")
	// The clocks are not in step: each way has half of the least both ways, and may be off by that.
	assert.InDelta(t, 25, *there.MinMs, 1e-3)
	assert.InDelta(t, 25, *back.MinMs, 1e-3)
	assert.InDelta(t, 25, *f.Clock.ErrorMs, 1e-3)

	require.Len(t, f.Rates, 2)
	assert.InEpsilon(t, 20e6, *f.Rates[0].Bps, 1e-6)
	assert.Equal(t, visitor.ByService, f.Rates[0].By, "what arrives at the service is no visitor's word")
	assert.InEpsilon(t, 80e6, *f.Rates[1].Bps, 1e-6)
	assert.Equal(t, visitor.ByVisitor, f.Rates[1].By)
	require.Len(t, f.Loaded, 2)
	assert.InDelta(t, 140, *f.Loaded[0].MedianMs, 1e-9)
	assert.Equal(t, 1, f.Loaded[0].Lost)

	assert.Equal(t, readiness.NotFit, f.Answer.Answer, "2 % lost, and 1 % asked")
	assert.Contains(t, f.Answer.Sentence, "As far as a browser can tell: ")
	assert.Contains(t, f.Answer.Notes[len(f.Answer.Notes)-1], "how soon names are found, how large packets may be and whether service classes are kept")

	b, err := json.Marshal(f)
	require.NoError(t, err)
	var again visitor.Found
	require.NoError(t, json.Unmarshal(b, &again))
	assert.Equal(t, f.Ways, again.Ways)
}

// TestWhatIsSentAnewWasLost: what comes a round trip behind later packets had to be heard of as missing.
func TestWhatIsSentAnewWasLost(t *testing.T) {
	n := need(t, "calls")
	p, _ := visitor.PlanOf(n, 1)
	told, seen := world{there: 10, back: 15, late: 30, held: func(n int) bool { return n%50 == 20 }}.visit(p)
	back := visitor.Find(n, 1, told, seen).Ways[1]
	assert.Equal(t, 10, *back.Lost)
	assert.Zero(t, back.Reordered)
	told, seen = world{there: 10, back: 15, late: 22, held: func(n int) bool { return n%50 == 20 }}.visit(p)
	back = visitor.Find(n, 1, told, seen).Ways[1]
	assert.Zero(t, *back.Lost)
	assert.Equal(t, 10, back.Reordered, "sooner than it could have been sent anew")
}

func TestAGoodPlaceIsFit(t *testing.T) {
	n := need(t, "calls")
	p, _ := visitor.PlanOf(n, 1)
	told, seen := world{there: 5, back: 5}.visit(p)
	told.Down, seen.Up = marks(80, 8), marks(20, 8)
	f := visitor.Find(n, 1, told, seen)
	assert.Equal(t, readiness.Fit, f.Answer.Answer, f.Answer.Sentence)
}

func TestWhatIsBlockedIsSaid(t *testing.T) {
	n := need(t, "calls")
	told, seen := visitor.Told{Blocked: "nothing came back within 8 s", Trips: []visitor.Trip{{Phase: visitor.Rest, Ms: ms(30)}}}, visitor.Seen{}
	f := visitor.Find(n, 1, told, seen)
	assert.Equal(t, readiness.NotTold, f.Answer.Answer)
	assert.Contains(t, f.Notes[0], "were blocked")
	assert.InDelta(t, 30, *f.Facts.Rest.MedianMs, 1e-9, "HTTP's round trip stands in")
	assert.Empty(t, f.Ways)
}

// TestAVisitorThatLies may make up its own figures, and nothing else.
func TestAVisitorThatLies(t *testing.T) {
	n := need(t, "calls")
	p, _ := visitor.PlanOf(n, 1)
	for name, told := range map[string]visitor.Told{
		"nothing":        {},
		"odd numbers":    {Sent: []float64{1, 2, 3}, Came: []visitor.Came{{Number: -5, At: 1}, {Number: 1 << 30, At: 2}, {Number: 1, At: math.Inf(1)}}},
		"odd times":      {Sent: []float64{math.NaN(), -1, 1e300}, Trips: []visitor.Trip{{Phase: visitor.Rest, Ms: ms(-3)}, {Phase: visitor.Rest, Ms: ms(1e30)}}},
		"more than all":  {Sent: make([]float64, 10*p.Packets)},
		"time runs back": {Down: []visitor.Mark{{At: 5, Bytes: 100}, {At: 3, Bytes: 1 << 60}, {At: 9000, Bytes: 50}}},
	} {
		t.Run(name, func(t *testing.T) {
			_, seen := world{there: 5, back: 5}.visit(p)
			seen.Up = marks(20, 8)
			f := visitor.Find(n, 1, told, seen)
			assert.NotEqual(t, readiness.Fit, f.Answer.Answer)
			assert.InEpsilon(t, 20e6, *f.Rates[0].Bps, 1e-6, "what the service saw stands")
			_, err := json.Marshal(f)
			assert.NoError(t, err, "no figure is none")
		})
	}
}

func TestRates(t *testing.T) {
	for _, c := range []struct {
		name   string
		marks  []visitor.Mark
		want   float64 // 0 where it cannot be told
		rising bool
	}{
		{"none", nil, 0, false},
		{"too short", marks(10, 2), 0, false},
		{"even", marks(10, 8), 10e6, false},
		{"slow to start", append(marks(1, 2), []visitor.Mark{{At: 2100, Bytes: 250_000}, {At: 4100, Bytes: 2_750_000}, {At: 6100, Bytes: 5_250_000}, {At: 8100, Bytes: 7_750_000}}...), 10e6, false},
		{"still rising", []visitor.Mark{{At: 0}, {At: 2000, Bytes: 1e6}, {At: 4000, Bytes: 3e6}, {At: 6000, Bytes: 7e6}}, 12e6, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			bps, _, rising := visitor.RateOf(c.marks, 2000)
			if c.want == 0 {
				assert.Nil(t, bps)
				return
			}
			assert.InEpsilon(t, c.want, *bps, 0.01)
			assert.Equal(t, c.rising, rising)
		})
	}
}

func TestWhatABrowserSendsNot(t *testing.T) {
	_, untold := visitor.PlanOf(need(t, "calls"), 40)
	assert.Contains(t, untold[readiness.Streams], "25 seats at most")
	p, untold := visitor.PlanOf(need(t, "meetings"), 2)
	assert.Equal(t, "opus", p.Codec)
	assert.Contains(t, untold[readiness.Streams], "one kind of stream only, voice")
	p, untold = visitor.PlanOf(need(t, "file-work"), 2)
	assert.Equal(t, 1, p.Seats)
	assert.NotContains(t, untold, readiness.Streams, "none is asked for")
}
