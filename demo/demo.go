// Package demo holds the Skerry Line world: a made-up ferry operator's network
// with five things wrong with it, its agents and its watches.
package demo

import (
	_ "embed"
	"time"

	"woodlark.example/internal/network/world"
)

//go:embed skerry.yaml
var worldFile []byte

// Watches is the file of the demo's watches.
//
//go:embed watches.yaml
var Watches []byte

// Owners is a table of who has which prefixes: see route.ParseOwners.
//
//go:embed owners.csv
var Owners []byte

// Sites is a file of where the demo's sites are: see sites.ReadCSV. The ships are nowhere for long.
//
//go:embed sites.csv
var Sites []byte

// HistoryDays is how much history the demo starts with.
const HistoryDays = 14

// Agent is a simulated agent and the host that it stands at.
type Agent struct{ Name, Host, Site string }

// Agents are the demo's simulated agents.
func Agents() []Agent {
	return []Agent{
		{"northquay", "ops.northquay.example", "Northquay"},
		{"ticketing", "app.ticketing.example", "Ticketing"},
		{"drydock", "office.drydock.example", "Dry dock"},
	}
}

// World opens the Skerry Line world as it stands around a reference time: its
// troubles began that many days before it.
func World(reference time.Time, zone *time.Location) (*world.Model, error) {
	return world.Read(worldFile, world.Options{Reference: reference, Zone: zone})
}
