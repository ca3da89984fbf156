package api

// ArchivedDay is a day that is archived on the machine of the node which answers.
type ArchivedDay struct {
	Day     string `json:"day" doc:"Like 2026-10-01, in UTC"`
	Size    int64  `json:"size" doc:"Octets of the file"`
	Archive int64  `json:"archive,omitempty" doc:"Its number if it is open"`
}
