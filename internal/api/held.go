package api

// HeldRelease lets held deliveries go on.
type HeldRelease struct {
	Deliveries         []string `json:"delivery" minItems:"1" maxItems:"1000" doc:"Ids of held deliveries"`
	AllowSender        string   `json:"allow_sender,omitempty" doc:"Allow their senders too, so long: 30d, or: for good. It counts where SPF or DMARC proves them"`
	WithoutAttachments bool     `json:"without_attachments,omitempty" doc:"A note stands in their place; the original stays on record"`
	Why                string   `json:"why,omitempty" maxLength:"500" doc:"Kept on record"`
}
