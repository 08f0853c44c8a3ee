package apitype

// ExportEnd is the last line of an export.
type ExportEnd struct {
	End      bool `json:"end"`
	Readings int  `json:"readings"`
}

// Imported is what was taken in.
type Imported struct {
	Readings int `json:"readings"`
	Taken    int `json:"taken" doc:"That were not there already"`
}
