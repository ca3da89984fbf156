package mail

// Role is what somebody may do.
type Role string

// The roles.
const (
	Administrator Role = "administrator"
	Viewer        Role = "viewer"
)
