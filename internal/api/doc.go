// Package api holds the types that the service and its clients share, with their JSON
// names and the descriptions that the OpenAPI document gives of them. It promises
// nothing but shape: no behaviour, and no import but of core, whose records it contains.
package api
