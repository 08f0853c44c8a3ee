package kind

import (
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"unicode/utf8"
)

var (
	hostName  = regexp.MustCompile(`^[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?(\.[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?)*\.?$`)
	allDigits = regexp.MustCompile(`^[0-9./:]+$`)
)

// CheckTarget says whether a target is an address or could be a host's name
// (RFC 1123 §2.1). The error shows no more than the target's beginning.
func CheckTarget(target string) error {
	shown := short(target)
	switch {
	case target == "":
		return fmt.Errorf("%w: a target is empty", ErrInvalid)
	case len(target) > 253:
		return fmt.Errorf("%w: target %q is %d characters long; a name has 253 at most", ErrInvalid, shown, utf8.RuneCountInString(target))
	}
	if _, err := netip.ParseAddr(target); err == nil {
		return nil
	}
	if strings.Contains(target, "/") {
		if _, err := netip.ParsePrefix(target); err != nil {
			return fmt.Errorf("%w: %q is not a prefix, and a target is one address or name", ErrInvalid, shown)
		}
		return fmt.Errorf("%w: %q is a prefix; a target is one address or name", ErrInvalid, shown)
	}
	if allDigits.MatchString(target) {
		return fmt.Errorf("%w: target %q is not an IP address", ErrInvalid, shown)
	}
	if !hostName.MatchString(target) {
		return fmt.Errorf("%w: target %q is neither an IP address nor a host's name", ErrInvalid, shown)
	}
	return nil
}

// noun is what its targets are called.
func (k *Kind) noun() string {
	if k.Noun != "" {
		return k.Noun
	}
	return "target"
}

// CheckTargets says what is wrong with the targets of a spec.
func (k *Kind) CheckTargets(s Spec, targets []string) error {
	switch {
	case len(targets) == 0 && k.NoTarget != nil && k.NoTarget(s):
		return nil
	case k.One && len(targets) != 1:
		return fmt.Errorf("%w: name one target; %d are named", ErrInvalid, len(targets))
	case len(targets) == 0:
		return fmt.Errorf("%w: name at least one %s", ErrInvalid, k.noun())
	}
	check := func(t string) error { return CheckTarget(t) }
	if k.Target != nil {
		check = func(t string) error { return k.Target(s, t) }
	}
	for _, t := range targets {
		if err := check(t); err != nil {
			return err
		}
	}
	return nil
}
