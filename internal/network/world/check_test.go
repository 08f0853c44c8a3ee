package world_test

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"woodlark.example/internal/network/world"
)

func warnings(t *testing.T, text string) []string {
	t.Helper()
	_, found, err := world.Check([]byte(text), world.Options{Reference: reference})
	require.NoError(t, err)
	var out []string
	for _, w := range found {
		out = append(out, w.String())
	}
	return out
}

func TestWhatIsOdd(t *testing.T) {
	assert.Empty(t, warnings(t, lane))
	assert.Empty(t, warnings(t, diamond))
	nodes := "nodes:\n  - {name: a, addresses: [192.0.2.1]}\n  - {name: b, addresses: [192.0.2.2]}\n  - {name: r, router: true, addresses: [192.0.2.3]}\n"
	for _, c := range []struct{ name, text, says string }{
		{"alone", nodes + "links:\n  - {between: [a, b]}\n", "line 4: r has no link"},
		{"no address", "nodes:\n  - {name: a, addresses: [192.0.2.1]}\n  - {name: b}\nlinks:\n  - {between: [a, b]}\n", "line 3: b has no address"},
		{"a router without one", "nodes:\n  - {name: a, addresses: [192.0.2.1]}\n  - {name: b, router: true}\nlinks:\n  - {between: [a, b]}\n", "cannot answer or send errors"},
		{"no way", nodes + "links:\n  - {between: [a, r], linked: false}\n  - {between: [r, b]}\n", "line 2: there is no way between a and b"},
		{"no way back", nodes + "links:\n  - {between: [a, r], toward: {a: {linked: false}}}\n  - {between: [r, b]}\n", "line 3: there is no way from b to a, but one back"},
		{"a loop", strings.Replace(lane, "{name: r2, router: true,", "{name: r2, router: true, routes: [{to: b, via: r1}],", 1), "goes in circles: a, r1, r2, r1"},
		{"varies below zero", nodes + "links:\n  - {between: [a, r], delay: 1ms, variation: uniform 2ms}\n  - {between: [r, b]}\n", "line 6: a → r: the delay of 1ms varies by more than itself"},
		{"load without a rate", nodes + "links:\n  - {between: [a, r], load: 50%}\n  - {between: [r, b]}\n", "12 Mbit/s are taken"},
		{"a policer that never acts", nodes + "links:\n  - {between: [a, r], rate: 1Mbit/s, policer: 2Mbit/s 3kB}\n  - {between: [r, b]}\n", "never acts"},
		{"all lost", nodes + "links:\n  - {between: [a, r], loss: 100%}\n  - {between: [r, b]}\n", "loses everything"},
		{"bursts without an end", nodes + "links:\n  - {between: [a, r], loss: bursts enter 1% leave 0%}\n  - {between: [r, b]}\n", "never end"},
		{"no resolver", strings.Replace(nodes, "{name: a,", "{name: a, resolvers: [b],", 1) + "links:\n  - {between: [a, r]}\n  - {between: [r, b]}\n", "line 2: a asks b for names, which is no resolver"},
		{"a prefix of a host", strings.Replace(nodes, "{name: a,", "{name: a, prefixes: [203.0.113.0/28],", 1) + "links:\n  - {between: [a, r]}\n  - {between: [r, b]}\n", "which is no router"},
	} {
		t.Run(c.name, func(t *testing.T) {
			found := warnings(t, c.text)
			assert.Contains(t, strings.Join(found, "\n"), c.says)
		})
	}
	_, _, err := world.Check([]byte("nodes: []"), world.Options{})
	require.ErrorIs(t, err, world.ErrFile)
}

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(world.Schema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("world.json", document))
	s, err := c.Compile("world.json")
	require.NoError(t, err)
	return s
}

// asJSON is YAML as a validator wants it.
func asJSON(t *testing.T, text string) any {
	t.Helper()
	var v any
	require.NoError(t, yaml.Unmarshal([]byte(text), &v))
	b, err := json.Marshal(stringKeys(v))
	require.NoError(t, err)
	out, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	require.NoError(t, err)
	return out
}

func stringKeys(v any) any {
	switch x := v.(type) {
	case map[any]any:
		out := map[string]any{}
		for k, e := range x {
			b, _ := json.Marshal(k)
			out[strings.Trim(string(b), `"`)] = stringKeys(e)
		}
		return out
	case map[string]any:
		for k, e := range x {
			x[k] = stringKeys(e)
		}
	case []any:
		for i, e := range x {
			x[i] = stringKeys(e)
		}
	}
	return v
}

func TestTheSchemaFitsTheReader(t *testing.T) {
	s := schema(t)
	for _, text := range []string{lane, diamond, ring} {
		assert.NoError(t, s.Validate(asJSON(t, text)))
	}
	// Whatever the schema knows the reader knows, and the other way round: a key
	// that is in one only is refused by the other.
	var document struct {
		Defs map[string]struct {
			Properties map[string]any `json:"properties"`
		} `json:"$defs"`
		Properties map[string]any `json:"properties"`
	}
	require.NoError(t, json.Unmarshal(world.Schema, &document))
	known := func(keys map[string]any) (out []string) {
		for k := range keys {
			out = append(out, k)
		}
		return out
	}
	assert.ElementsMatch(t, world.Keys("world"), known(document.Properties))
	for _, part := range []string{"node", "link", "change"} {
		assert.ElementsMatch(t, world.Keys(part), known(document.Defs[part].Properties), part)
	}
	for name, text := range map[string]string{
		"an unknown key": "nodes: [{name: a}]\nbogus: 1", "a bad state of a port": "nodes: [{name: a, tcp: {80: ajar}}]",
		"no nodes": "nodes: []", "a link with one end": "nodes: [{name: a}]\nlinks: [{between: [a]}]",
		"a change of nothing": "nodes: [{name: a}]\nchanges: [{set: {up: false}}]",
	} {
		assert.Error(t, s.Validate(asJSON(t, text)), name)
	}
}
