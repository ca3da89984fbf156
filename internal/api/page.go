package api

// Page is one Page of a list.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next" doc:"Give this as after to go on; empty at the end"`
}
