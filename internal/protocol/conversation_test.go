package protocol

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
)

func TestWhichConversationsAreMeant(t *testing.T) {
	for _, c := range []struct {
		word, program string
		port          uint16
		fits          bool
	}{
		{"program:softphone", "softphone", 5004, true},
		{"program:softphone", "softphone2", 5004, false},
		{"program:a-name-that-is-longer", "a-name-that-is-", 1, true}, // as the kernel keeps it
		{"ports:5004-5100", "any", 5004, true},
		{"ports:5004-5100", "any", 5100, true},
		{"ports:5004-5100", "any", 5101, false},
		{"ports:443", "", 443, true},
	} {
		talk, err := ParseTalk(c.word)
		require.NoError(t, err, c.word)
		assert.Equal(t, c.fits, talk.Fits(c.program, c.port), "%s, %s at %d", c.word, c.program, c.port)
		assert.True(t, IsTalk(c.word))
	}
	for _, word := range []string{"program:", "program:a b", "program:/bin/sh", "ports:", "ports:0", "ports:70000", "ports:9-8", "ports:a-b", "ports:1-2-3"} {
		_, err := ParseTalk(word)
		assert.ErrorContains(t, err, word)
	}
	assert.False(t, IsTalk("softphone"))
}

// TestAnOlderAgentFollowsNobody: what it is not given it is told to lack.
func TestAnOlderAgentFollowsNobody(t *testing.T) {
	p := Plan{Follow: []Follow{{Watch: ident.New(), Words: []string{"program:softphone"}}}, Tasks: []Task{{Target: "192.0.2.1"}, {Target: "192.0.2.2", Talks: []ident.ID{ident.New()}}}}
	for version, lacks := range map[int]bool{4: false, 3: true, 2: true, 1: true} {
		plan, lacking := p.For(version)
		assert.Equal(t, lacks, len(lacking) > 0, version)
		if whole, is := plan.(Plan); is && lacks {
			assert.Empty(t, whole.Follow)
			require.Len(t, whole.Tasks, 1, "what nobody said to end is not begun")
			assert.Equal(t, "192.0.2.1", whole.Tasks[0].Target)
		}
	}
	assert.Len(t, p.Follow, 1, "the plan itself stays")
	assert.Len(t, p.Tasks, 2)
}
