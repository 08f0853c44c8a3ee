package apitype

// SiteSpec is what is said of a site.
type SiteSpec struct {
	Name    string   `json:"name" maxLength:"100"`
	Lat     *float64 `json:"lat_deg,omitempty" minimum:"-90" maximum:"90" doc:"Latitude (WGS 84), north positive; with lon_deg, or left out where it is not known"`
	Lon     *float64 `json:"lon_deg,omitempty" minimum:"-180" maximum:"180" doc:"Longitude, east positive"`
	Targets []string `json:"targets,omitempty" doc:"Names, addresses and prefixes of what stands there; agents say their site themselves"`
	Note    string   `json:"note,omitempty" maxLength:"500"`
}

// Site is a site that something was said of, or that an agent or a target is at.
type Site struct {
	SiteSpec
	Agents int  `json:"agents" doc:"Agents at it"`
	Paths  int  `json:"paths" doc:"Paths whose target is at it"`
	Said   bool `json:"said" doc:"Whether something was said of it; else it is known from agents and targets alone"`
}

// SitesSaid are sites of which something is said.
type SitesSaid struct {
	Sites []SiteSpec `json:"sites" minItems:"1" maxItems:"5000"`
}

// PlacesFile is a file of sites or of owners.
type PlacesFile struct {
	CSV string `json:"csv" doc:"RFC 4180, with a line of headings"`
}

// Owner is who has a prefix.
type Owner struct {
	Prefix string `json:"prefix" doc:"Such as 203.0.113.0/24 or 2001:db8::/32; that of an address is the longest"`
	Name   string `json:"owner" maxLength:"100"`
	Kind   string `json:"kind" enum:"ours,access,transit,far end" doc:"Whose part of the way it is"`
	Given  bool   `json:"given,omitempty" doc:"By the file that the settings name: it can be said otherwise, and not be removed"`
}

// OwnersSaid are owners of prefixes.
type OwnersSaid struct {
	Owners []Owner `json:"owners" minItems:"1" maxItems:"20000"`
}
