package apitype

import "woodlark.example/core/compare"

// SideBySide is two measurements beside each other.
type SideBySide compare.Result
