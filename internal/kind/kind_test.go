package kind_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/kind"
	_ "woodlark.example/internal/kind/all"
)

// samples are texts of values by their type.
var samples = map[string][]string{
	"bool": {"true", "false"}, "int": {"1", "7", "23", "40"}, "number": {"0.25", "0.001"}, "text": {"gull", "a b"}, "span": {"1s", "20ms", "1m30s"},
	"rate": {"20M", "64k", "1500000"}, "amount": {"20M", "95%", "1488fps", "there 20M back 5M"}, "share": {"0.1%", "0", "0.25"}, "object": {""}, "need": {"calls", "kiosk"}, "packets": {"1", "250", "unlimited"}, "via": {"icmp", "tcp:443", "icmp,tcp:443", "udp:7,stamp"},
	"family": {"4", "6"}, "class": {"EF", "46", "AF41", "3"}, "address": {"192.0.2.1", "2001:db8::1"}, "list": {"192.0.2.1", "192.0.2.1,192.0.2.7"},
}

func sample(r *rand.Rand, f kind.Field) string {
	list := samples[f.Type()]
	if len(f.Enum) > 0 {
		list = f.Enum
	}
	if f.Name == "via" && f.Flag == "via" { // that each kind takes
		list = []string{"icmp", "tcp:443"}
	}
	return list[r.IntN(len(list))]
}

// TestEachFieldSurvives: from an option to the spec, to JSON and back, whatever is said.
func TestEachFieldSurvives(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, k := range kind.All() {
		t.Run(k.Name, func(t *testing.T) {
			for range 200 {
				spec := k.New(kind.ByHand)
				options := flag.NewFlagSet("", flag.ContinueOnError)
				options.SetOutput(io.Discard)
				kind.Options(options, spec, nil)
				given := map[string]string{}
				for _, f := range kind.FieldsOf(spec) {
					if r.IntN(2) == 0 || f.Instead != "" {
						continue
					}
					given[f.Name] = sample(r, f)
					if f.Flag == "-" {
						require.NoError(t, f.Set(given[f.Name]))
						continue
					}
					require.NoError(t, options.Parse([]string{fmt.Sprintf("-%s=%s", f.Flag, given[f.Name])}), f.Name)
				}
				data, err := k.Encode(spec)
				require.NoError(t, err)
				for _, o := range []kind.Occasion{kind.ByHand, kind.Standing} {
					back, err := k.Decode(o, data)
					require.NoError(t, err, string(data))
					assert.Equal(t, spec, back, string(data))
				}
			}
		})
	}
}

// TestOneWordHasOneMeaning: an option of several kinds is of one type, and named alike in JSON.
func TestOneWordHasOneMeaning(t *testing.T) {
	types, names := map[string]string{}, map[string]string{}
	for _, k := range kind.All() {
		own := map[string]bool{}
		for _, f := range kind.FieldsOf(k.New(kind.Standing)) {
			for _, word := range append([]string{f.Flag}, f.Old...) {
				assert.False(t, own[word] && word != "-", "%s has -%s twice", k.Name, word)
				own[word] = true
			}
			assert.NotEmpty(t, f.Help, "%s %s", k.Name, f.Name)
			if was, is := types[f.Flag]; is && f.Flag != "via" && f.Flag != "-" {
				assert.Equal(t, was, f.Type(), "-%s of %s", f.Flag, k.Name)
			}
			if was, is := names[f.Name]; is {
				assert.Equal(t, was, f.Flag, "%s of %s", f.Name, k.Name)
			}
			types[f.Flag], names[f.Name] = f.Type(), f.Flag
		}
	}
}

func TestWhatIsUsualIsGood(t *testing.T) {
	for _, k := range kind.All() {
		for _, o := range []kind.Occasion{kind.ByHand, kind.Standing} {
			if k.Schema != nil { // what is to be tested has to be said, and that it is missing is told
				require.ErrorContains(t, k.New(o).Check(), "say what", k.Name)
			} else {
				require.NoError(t, k.New(o).Check(), k.Name)
			}
			spec, err := k.Decode(o, nil)
			require.NoError(t, err)
			assert.Equal(t, k.New(o), spec)
		}
	}
}

func TestSpecsAreReadStrictly(t *testing.T) {
	for _, c := range []struct{ kind, json, want string }{
		{"ping", `{"probe": 3}`, `unknown field "probe" of a ping`},
		{"ping", `{"probes": "many"}`, `probes cannot be a string`},
		{"ping", `{"wait": "soon"}`, `wait "soon" is not a span of time`},
		{"ping", `{"wait": {}}`, `wait is neither a text nor a number`},
		{"ping", `{"via": "carrier pigeon"}`, `via no kind of probe`},
		{"ping", `{"family": 5}`, `family "5" is none of 4, 6, both`},
		{"ping", `{"probes": 5, "for": "1s"}`, `for and probes exclude each other`},
		{"ping", `{"for": "0s"}`, `for 0 is not above zero`},
		{"ping", `[]`, `is an object of JSON`},
		{"walk", `{"family": "both"}`, `family "both" is none of 4, 6`},
		{"walk", `{"port": 70000}`, `port cannot be a number`},
		{"trace", `{"via": "stamp"}`, `a trace goes by one of`},
		{"sweep", `{"packets_per_second": 0.5}`, `packets_per_second "0.5" is neither`},
		{"stream", `{"buffer": "big"}`, `buffer "big" is none of fixed, adaptive`},
		{"throughput", `{"rate_bps": "fast"}`, `rate_bps "fast" is not a rate`},
	} {
		k, err := kind.Find(c.kind)
		require.NoError(t, err)
		_, err = k.Decode(kind.Standing, []byte(c.json))
		require.ErrorContains(t, err, c.want)
		assert.ErrorIs(t, err, kind.ErrInvalid)
	}
	_, err := kind.Find("dowse")
	assert.ErrorContains(t, err, `unknown kind of measurement "dowse": there are ping, sweep, trace, walk, throughput, stream`)
	assert.ErrorIs(t, err, kind.ErrUnknown)
}

func TestWrongFieldsAreNamedAsTheyAreAsked(t *testing.T) {
	k, err := kind.Find("ping")
	require.NoError(t, err)
	spec, err := k.Decode(kind.Standing, []byte(`{"interval": "10us", "payload_bytes": 3}`))
	require.NoError(t, err)
	err = spec.Check()
	assert.ErrorContains(t, err, "interval 10µs is less than 1ms\npayload_bytes 3 is not")
	assert.ErrorContains(t, kind.ByFlag(spec, err), "-every 10µs is less than 1ms\n-payload 3 is not")
}

func TestOldSpellingsAreTaken(t *testing.T) {
	k, err := kind.Find("sweep")
	require.NoError(t, err)
	spec := k.New(kind.ByHand)
	options := flag.NewFlagSet("", flag.ContinueOnError)
	var said string
	kind.Options(options, spec, func(was, is string) { said = was + " " + is })
	require.NoError(t, options.Parse([]string{"-rate", "100"}))
	assert.Equal(t, "rate packets", said)
	data, err := k.Encode(spec)
	require.NoError(t, err)
	var out map[string]any
	require.NoError(t, json.Unmarshal(data, &out))
	assert.EqualValues(t, 100, out["packets_per_second"])
}
