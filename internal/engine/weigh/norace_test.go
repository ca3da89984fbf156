//go:build !race

package weigh

const slower = 1
