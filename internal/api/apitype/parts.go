package apitype

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/kind"
)

// WatchPart is a measurement beside the first of a watch: of which kind, when, and the spec of
// its kind.
type WatchPart struct {
	Kind    string     `json:"kind" yaml:"kind" doc:"What is measured"`
	Repeat  string     `json:"repeat,omitempty" yaml:"repeat" doc:"Time between runs, such as 5m; continuous when left out"`
	Spread  string     `json:"spread,omitempty" yaml:"spread" enum:"even,poisson" doc:"As of a watch"`
	Cron    string     `json:"cron,omitempty" yaml:"cron" doc:"As of a watch"`
	Zone    string     `json:"zone,omitempty" yaml:"zone" doc:"As of a watch"`
	StartAt *time.Time `json:"start_at,omitempty" yaml:"start" doc:"As of a watch"`
	EndAt   *time.Time `json:"end_at,omitempty" yaml:"end" doc:"As of a watch"`
	Hours   string     `json:"hours,omitempty" yaml:"hours" doc:"As of a watch"`
	How     Values     `json:"-" yaml:"-"`
}

type watchPart WatchPart

// MarshalJSON writes it as one object.
func (p WatchPart) MarshalJSON() ([]byte, error) { return flat(watchPart(p), p.How) }

// UnmarshalJSON reads it; what is not of every part is of its kind.
func (p *WatchPart) UnmarshalJSON(b []byte) (err error) {
	var own watchPart
	if own.How, err = apart(b, &own); err != nil {
		return err
	}
	*p = WatchPart(own)
	return nil
}

// Watch is a part as if it were a watch.
func (p WatchPart) Watch() WatchSpec {
	return WatchSpec{Kind: p.Kind, Repeat: p.Repeat, Spread: p.Spread, Cron: p.Cron, Zone: p.Zone, StartAt: p.StartAt, EndAt: p.EndAt, Hours: p.Hours, How: p.How}
}

// PartOf is what a watch measures as a part of another.
func PartOf(w WatchSpec) WatchPart {
	return WatchPart{Kind: w.Kind, Repeat: cmp.Or(w.Repeat, w.Every), Spread: w.Spread, Cron: w.Cron, Zone: w.Zone, StartAt: w.StartAt, EndAt: w.EndAt, Hours: w.Hours, How: w.How}
}

// partsOf reads parts from a file.
func partsOf(list []any) (parts []WatchPart, err error) {
	var own []string
	for _, f := range ownKeys() {
		own = append(own, f.file)
	}
	for _, x := range list {
		all, is := x.(map[string]any)
		if !is {
			return nil, fmt.Errorf("%w: also: each is an object such as {kind: trace, repeat: 15m}", kind.ErrInvalid)
		}
		for key := range all {
			if slices.Contains(own, key) && !slices.Contains(partKeys, key) {
				return nil, fmt.Errorf("%w: also: %s is of the whole watch", kind.ErrInvalid, key)
			}
		}
		w, err := WatchOf(all)
		if err != nil {
			return nil, err
		}
		parts = append(parts, PartOf(w))
	}
	return parts, nil
}

// partKeys are those that a part has in a file beside those of its kind.
var partKeys = []string{"kind", "repeat", "every", "spread", "cron", "zone", "start", "end", "hours"}

// partsFile are parts as partsOf reads them.
func partsFile(list []WatchPart) (out []any, err error) {
	for _, p := range list {
		all, err := p.Watch().File()
		if err != nil {
			return nil, err
		}
		for _, key := range []string{"name", "from", "to"} {
			delete(all, key)
		}
		out = append(out, all)
	}
	return out, nil
}

// TransformSchema describes it with the fields of all kinds.
func (WatchPart) TransformSchema(_ huma.Registry, s *huma.Schema) *huma.Schema { return withFields(s) }
