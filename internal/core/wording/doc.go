// Package wording says in words what became of messages: their history event by event,
// answers for people who ask and for remote administrators, and whose trouble the lanes
// look like. It computes on records alone and imports nothing outside core.
package wording
