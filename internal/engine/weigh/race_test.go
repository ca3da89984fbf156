//go:build race

package weigh

// slower is how much slower all is with the race detector.
const slower = 10
