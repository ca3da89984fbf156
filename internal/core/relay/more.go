package relay

// More is what is to be counted beside a recipient, against limits.
type More struct {
	First bool // of its message, which is counted with it
	Fresh bool // the two have not exchanged mail before
	Over  bool // it is counted even where a limit forbids it
}
