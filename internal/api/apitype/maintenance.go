package apitype

import "time"

// MaintenanceSpec is when work is done, and on what.
type MaintenanceSpec struct {
	Name     string     `json:"name"`
	Site     string     `json:"site,omitempty" doc:"Of paths from or to it; all that are given of site, agent, target and tag must fit, and it is of all paths when none is"`
	Agent    string     `json:"agent,omitempty"`
	Target   string     `json:"target,omitempty"`
	Tag      string     `json:"tag,omitempty" doc:"Of a watch"`
	FromAt   *time.Time `json:"from_at,omitempty"`
	UntilAt  *time.Time `json:"until_at,omitempty"`
	Cron     string     `json:"cron,omitempty" doc:"When it begins again and again: a cron expression of five fields"`
	Zone     string     `json:"zone,omitempty" doc:"Whose hours cron goes by. Default UTC"`
	Lasts    string     `json:"lasts,omitempty" doc:"How long it is each time, such as 2h"`
	Calendar string     `json:"calendar,omitempty" doc:"Text of a calendar (RFC 5545) whose events are the windows"`
	Address  string     `json:"address,omitempty" doc:"Where a calendar is fetched, each hour"`
}

// Maintenance is a window of maintenance, or a calendar of them, without the calendar's text.
type Maintenance struct {
	ID string `json:"id"`
	MaintenanceSpec
	CalendarBytes int    `json:"calendar_bytes,omitempty"`
	Now           bool   `json:"now" doc:"It goes on"`
	Next          *Span  `json:"next,omitempty" doc:"The stretch that goes on or comes next"`
	NextName      string `json:"next_name,omitempty"`
}
