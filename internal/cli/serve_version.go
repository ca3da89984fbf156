package cli

import "gullroute/internal/service"

// version is this program's, as it was given when it was built.
func version() string { return service.Version }
