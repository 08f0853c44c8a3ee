package controller_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/controller"
)

func TestSpecs(t *testing.T) {
	good := controller.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "2001:db8::1", "terminal.holm.example", "under_score.example", "a"}}
	for _, c := range []struct {
		name   string
		change func(*controller.Spec)
		says   string
	}{
		{"as it is", func(*controller.Spec) {}, ""},
		{"every five minutes", func(s *controller.Spec) { s.Every = 5 * time.Minute }, ""},
		{"an interval that does not divide a minute, with runs", func(s *controller.Spec) { s.Every, s.Interval = time.Minute, 7*time.Millisecond*10 }, ""},
		{"no agent", func(s *controller.Spec) { s.From = nil }, "at least one agent"},
		{"no target", func(s *controller.Spec) { s.To = nil }, "at least one target"},
		{"an empty target", func(s *controller.Spec) { s.To = []string{""} }, "a target is empty"},
		{"a target with spaces", func(s *controller.Spec) { s.To = []string{"a b"} }, "neither an IP address nor a host's name"},
		{"a label that is too long", func(s *controller.Spec) { s.To = []string{strings.Repeat("x", 64) + ".example"} }, "neither an IP address"},
		{"a name that is too long", func(s *controller.Spec) { s.To = []string{strings.Repeat("x.", 150)} }, "300 characters long"},
		{"a half address", func(s *controller.Spec) { s.To = []string{"192.0.2"} }, "is not an IP address"},
		{"a prefix", func(s *controller.Spec) { s.To = []string{"2001:db8::/64"} }, "is a prefix"},
		{"a broken prefix", func(s *controller.Spec) { s.To = []string{"192.0.2.0/99"} }, "is not a prefix"},
		{"too many paths", func(s *controller.Spec) { s.To = slicesOf("a", 20001) }, "more than 20000 paths"},
		{"a family", func(s *controller.Spec) { s.Family = "5" }, "none of 4, 6, both"},
		{"too fast", func(s *controller.Spec) { s.Interval = time.Millisecond }, "not between 10ms and 1m"},
		{"uneven", func(s *controller.Spec) { s.Interval = 7 * time.Second }, "does not divide a minute evenly"},
		{"too often", func(s *controller.Spec) { s.Every = time.Second }, "less than 10s"},
		{"probes", func(s *controller.Spec) { s.Probes = -1 }, "probes -1"},
		{"wait", func(s *controller.Spec) { s.Wait = time.Hour }, "wait 1h0m0s"},
		{"payload", func(s *controller.Spec) { s.Payload = 8 }, "payload 8"},
		{"class", func(s *controller.Spec) { s.DSCP = 64 }, "DSCP 64"},
	} {
		spec := good
		c.change(&spec)
		err := spec.WithDefaults().Check()
		if c.says == "" {
			assert.NoError(t, err, c.name)
			continue
		}
		require.ErrorIs(t, err, controller.ErrInvalid, c.name)
		assert.ErrorContains(t, err, c.says, c.name)
		assert.Less(t, len(err.Error()), 2_000_000, c.name)
	}
}

func slicesOf(s string, n int) (list []string) {
	for range n {
		list = append(list, s)
	}
	return list
}
