package reports

import (
	"time"

	"woodlark.example/core/finding"
)

// Period is what is told of a period. Absent is what is not known.
type Period struct {
	Title           string             `json:"title"`
	FromAt          time.Time          `json:"from_at"`
	ToAt            time.Time          `json:"to_at"`
	MadeAt          time.Time          `json:"made_at"`
	Zone            string             `json:"zone"`
	Of              string             `json:"of,omitempty" doc:"Which paths were chosen; absent when all"`
	Summary         string             `json:"summary"`
	Objective       string             `json:"objective,omitempty"`
	ObjectiveSource string             `json:"objective_source,omitempty"`
	Limits          map[string]float64 `json:"limits,omitempty" doc:"Those of the objective"`
	Watched         int                `json:"watched" doc:"Paths that were chosen and are watched"`
	Healthy         int                `json:"healthy" doc:"Of those, that were measured and never worse than normal in that time"`
	Incidents       []IncidentTold     `json:"incidents"`
	Degraded        []DegradedTold     `json:"degraded" doc:"Paths with the times in which they were worse than normal, those that it cost most first"`
	Standing        []Standing         `json:"standing" doc:"What comes back, crept or stayed"`
	Paths           []PathTold         `json:"paths"`
	Sweeps          []Swept            `json:"sweeps" doc:"Sweeps that found changes, newest first"`
	SweepsLooked    int                `json:"sweeps_looked_at"`
	SweepsLeft      int                `json:"sweeps_not_looked_at" doc:"Of that time, beyond as many as are looked at"`
	Throughput      []Carried          `json:"throughput"`
	NotJudged       []NotJudgedTold    `json:"not_judged"`
	Notes           []NoteTold         `json:"notes" doc:"That people wrote"`
}

func newReport(s Spec, now time.Time, zone *time.Location) *Period {
	r := &Period{Title: s.Title, FromAt: s.From.UTC(), ToAt: s.To.UTC(), MadeAt: now.UTC(), Zone: zone.String(), Of: s.Selection.String(), Incidents: []IncidentTold{}, Degraded: []DegradedTold{},
		Standing: []Standing{}, Paths: []PathTold{}, Sweeps: []Swept{}, Throughput: []Carried{}, NotJudged: []NotJudgedTold{}, Notes: []NoteTold{}}
	if r.Title == "" {
		r.Title = "Degraded paths, " + s.From.In(zone).Format("2 Jan 2006") + " to " + s.To.In(zone).Format("2 Jan 2006")
	}
	return r
}

// Ends are those of a path.
type Ends struct {
	Path   string `json:"path_id"`
	From   string `json:"from"`
	To     string `json:"to"`
	Family int    `json:"family"`
	Via    string `json:"via"`
}

// IncidentTold is what one segment explains.
type IncidentTold struct {
	ID         string        `json:"id"`
	BeganAt    time.Time     `json:"began_at"`
	EndedAt    *time.Time    `json:"ended_at,omitempty"`
	Sentence   string        `json:"sentence"`
	Advice     string        `json:"advice,omitempty"`
	Confidence float64       `json:"confidence"`
	Segments   []SegmentTold `json:"segments"`
	Paths      []Ends        `json:"paths"`
	Others     int           `json:"other_paths,omitempty" doc:"That are part of it and were not chosen"`
}

// SegmentTold is a stretch of the way, by addresses and what they are called.
type SegmentTold struct {
	From     string `json:"from"`
	To       string `json:"to"`
	FromName string `json:"from_name,omitempty"`
	ToName   string `json:"to_name,omitempty"`
}

// DegradedTold is a path with the times in which it was worse than normal.
type DegradedTold struct {
	Ends
	Episodes []EpisodeTold `json:"episodes"`
	CostS    float64       `json:"cost_s" doc:"For how long it was worse than normal in that time"`
	Picture  []PictureStep `json:"picture" doc:"The round trip over that time in steps"`
	StepS    float64       `json:"step_s"`
	Flags    []RouteFlag   `json:"route_changes"`
}

// EpisodeTold is a time in which a path was worse than normal.
type EpisodeTold struct {
	ID          string       `json:"id"`
	Kind        string       `json:"kind"`
	BeganAt     time.Time    `json:"began_at"`
	EarliestAt  time.Time    `json:"earliest_at" doc:"Between which it began"`
	LatestAt    time.Time    `json:"latest_at"`
	ToldAt      time.Time    `json:"told_at"`
	EndedAt     *time.Time   `json:"ended_at,omitempty"`
	Incident    string       `json:"incident_id,omitempty"`
	Cause       string       `json:"cause"`
	Sentence    string       `json:"sentence"`
	Advice      string       `json:"advice,omitempty"`
	Also        []string     `json:"also,omitempty" doc:"What else is concluded: where on the way, whose"`
	Excesses    []ExcessTold `json:"excesses"`
	UnmeasuredS float64      `json:"unmeasured_s,omitempty"`
	TimesCount  int          `json:"times" doc:"How often it came, with pauses of under half an hour"`
}

// ExcessTold is one measure before and in it.
type ExcessTold struct {
	Measure string  `json:"measure"`
	Unit    string  `json:"unit"`
	Normal  float64 `json:"normal"`
	Low     float64 `json:"normal_low"`
	High    float64 `json:"normal_high"`
	Now     float64 `json:"now" doc:"Over the last readings in it"`
	NowLow  float64 `json:"now_low" doc:"Of its 95 % interval"`
	NowHigh float64 `json:"now_high"`
	Worst   float64 `json:"worst"`
	Sent    int     `json:"sent,omitempty"`
	Lost    int     `json:"lost,omitempty"`
}

// PictureStep is a step of a picture.
type PictureStep struct {
	At       time.Time `json:"at"`
	MedianMs *float64  `json:"rtt_median_ms,omitempty"`
	LowMs    *float64  `json:"normal_low_ms,omitempty"`
	HighMs   *float64  `json:"normal_high_ms,omitempty"`
	Lost     *float64  `json:"loss_ratio,omitempty"`
}

// RouteFlag is a change of route.
type RouteFlag struct {
	At       time.Time `json:"at"`
	Sentence string    `json:"sentence"`
}

// Standing is what a path has come to: what comes back, crept, or stayed.
type Standing struct {
	Ends
	Kind     string    `json:"kind"`
	SinceAt  time.Time `json:"since_at"`
	Sentence string    `json:"sentence"`
	Advice   string    `json:"advice,omitempty"`
	Waits    bool      `json:"waits" doc:"To be accepted as normal"`
}

// PathTold is a path's availability, and how it stood against the objective.
type PathTold struct {
	Ends
	State        string   `json:"state" doc:"Now"`
	MeasuredS    float64  `json:"measured_s"`
	Availability *float64 `json:"availability_ratio,omitempty" doc:"Share of the measured time in which something answered"`
	Sent         int64    `json:"sent"`
	Lost         int64    `json:"lost"`
	Loss         *float64 `json:"loss_ratio,omitempty"`
	MeanMs       *float64 `json:"rtt_mean_ms,omitempty"`
	Episodes     int      `json:"episodes"`
	WorseS       float64  `json:"worse_s" doc:"For how long it was worse than normal"`
	Within       *float64 `json:"within_ratio,omitempty" doc:"Share of the measured time within the objective"`
	Met          *bool    `json:"objective_met,omitempty"`
	Missed       []string `json:"objective_missed,omitempty" doc:"Measures beyond their limits"`
}

// Swept is a sweep that found changes.
type Swept struct {
	ID       string    `json:"id"`
	At       time.Time `json:"at"`
	Agent    string    `json:"from"`
	Prefixes []string  `json:"prefixes"`
	Answered uint64    `json:"answered"`
	New      []string  `json:"new"`
	Gone     []string  `json:"gone"`
	Slower   []string  `json:"slower"`
}

// Carried is throughput against what is usual.
type Carried struct {
	Ends
	At        time.Time `json:"at"`
	Way       string    `json:"way" doc:"there or back"`
	Bps       float64   `json:"bps"`
	UsualBps  *float64  `json:"usual_bps,omitempty"`
	UsualLow  *float64  `json:"usual_low_bps,omitempty"`
	UsualHigh *float64  `json:"usual_high_bps,omitempty"`
	Says      string    `json:"says" doc:"as usual, less than usual, more than usual, or that this is not known yet"`
}

// NotJudgedTold is a path that could not be judged.
type NotJudgedTold struct {
	Ends
	Why  string `json:"why"`
	Says string `json:"says"`
}

// NoteTold is what a person wrote.
type NoteTold struct {
	ID     string     `json:"id"`
	Ends              // empty when it is of all
	At     time.Time  `json:"at"`
	Until  *time.Time `json:"until_at,omitempty"`
	Author string     `json:"author"`
	Text   string     `json:"text"`
}

// causes are the findings of an episode in the words of a report.
func (e *EpisodeTold) tell(found []finding.Finding) {
	e.Cause = string(finding.Cause(found))
	for i, f := range found {
		if i == 0 {
			e.Sentence, e.Advice = f.Sentence, f.Advice
			continue
		}
		e.Also = append(e.Also, f.Sentence)
	}
}
