package cli

import (
	"fmt"
	"io"
	"runtime"
	"runtime/debug"
)

// Version of the program.
const Version = "0.1.0"

// commit and date are of what it was built from, set by the linker: a hash, and the day that it was
// committed on. The day of the build is not told, so that the same source gives the same program.
var commit, date string

// built is what the program was built from: empty where that is not known.
func built() (hash, day string) {
	if commit != "" {
		return commit, date
	}
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			switch {
			case s.Key == "vcs.revision" && len(s.Value) >= 12:
				hash = s.Value[:12]
			case s.Key == "vcs.time" && len(s.Value) >= 10:
				day = s.Value[:10]
			case s.Key == "vcs.modified" && s.Value == "true":
				defer func() { hash += ", changed since" }()
			}
		}
	}
	return hash, day
}

func version(w io.Writer) {
	hash, day := built()
	switch {
	case hash == "":
		hash = "not known"
	case day != "":
		hash += " of " + day
	}
	fmt.Fprintf(w, "woodlark %s\ncommit %s\n%s, %s/%s\n", Version, hash, runtime.Version(), runtime.GOOS, runtime.GOARCH)
}
