// Package thirdparty holds the licences of what the program and its console are built with. They
// are gathered by tools/notices; a test fails when something is missing.
package thirdparty

import _ "embed"

// Notices are all of them, as one text.
//
//go:embed notices.txt
var Notices string
