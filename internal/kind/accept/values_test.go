package accept_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/kind"
	"woodlark.example/internal/kind/accept"
)

const aPlan = `
plan: gannet
line: there 100M back 20M
by_size: {most: 95%, sizes: [64, 1518], throughput: {loss: 0}, limits: {loss: 0.1%}}
by_service:
  services: [{service: calls, cir: 8M, dscp: EF, limits: {availability: 99.9%, delay: 10ms}}]
`

// TestAPlanSurvives: from a file to the spec, to JSON and back; as an object, and as the text of a
// file. A name of a file is taken from a command line alone.
func TestAPlanSurvives(t *testing.T) {
	name := filepath.Join(t.TempDir(), "plan.yaml")
	require.NoError(t, os.WriteFile(name, []byte(aPlan), 0o600))
	var p accept.Plan
	require.NoError(t, p.Set(name))
	spec := accept.Kind.New(kind.ByHand).(*accept.Spec)
	spec.Plan = p
	data, err := accept.Kind.Encode(spec)
	require.NoError(t, err)
	back, err := accept.Kind.Decode(kind.Standing, data)
	require.NoError(t, err, string(data))
	assert.Equal(t, p.Plan, back.(*accept.Spec).Plan.Plan)
	require.NoError(t, back.Check())
	text, err := json.Marshal(map[string]string{"plan": aPlan})
	require.NoError(t, err)
	back, err = accept.Kind.Decode(kind.Standing, text)
	require.NoError(t, err)
	assert.Equal(t, p.Plan, back.(*accept.Spec).Plan.Plan)
	for body, says := range map[string]string{
		`{"plan": {"by_size": {"mots": "1M"}}}`: "mots",
		`{"plan": "` + name + `"}`:              "plan",
		`{"plan": 5}`:                           "plan",
	} {
		_, err := accept.Kind.Decode(kind.Standing, []byte(body))
		assert.ErrorContains(t, err, says, body)
	}
	// What options say goes over the plan.
	spec.Tests, spec.Layer = kind.List{"performance"}, "ip"
	require.NoError(t, spec.Check())
	assert.Positive(t, accept.Kind.Cost(spec, []string{"x"}).Bytes)
}
