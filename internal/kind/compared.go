package kind

import (
	"woodlark.example/core/compare"
	"woodlark.example/core/likeness"
)

// Comparable is a result that can be laid beside another: its figures, with how sure each is, and
// the hops, where it knows them.
type Comparable interface{ Compared() compare.Side }

// Likened is a result that tells how a path behaves, so that a network can be made that does so too.
// What was found later in a span stands for what was found before.
type Likened interface{ Liken(m *likeness.Measured) }
