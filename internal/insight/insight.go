// Package insight is what people see: what became of messages, how lanes go, troubles and
// those who are told of them, readiness, the review of the settings, reports, archives. It
// changes nothing but its own records, and imports neither control nor service.
package insight

// Insight is all that people see.
type Insight struct {
	Trace     *Trace
	Lanes     *Lanes
	Snags     *Snags
	Nodes     *Nodes
	Reporter  *Reporter
	Readiness *Readiness
	Digester  *Digester
	Reviewer  *Reviewer
	Archiver  *Archiver
	Alerter   *Alerter
	Tuner     *Tuner
	Judge     *Judge
	Policies  *Policies
	Feedback  *Feedback
	Machine   *Machine
	Shelf     *Shelf
}
