/** A kind of what is counted, with a colour and a dash of its own: colour is never alone. */
export type Kind = { name: string; color: string; dash?: string; means: string };

export const kinds: Kind[] = [
	{ name: "received", color: "kelp.6", means: "messages taken" },
	{ name: "delivered", color: "kelp.4", dash: "6 3", means: "recipients reached" },
	{ name: "forwarded", color: "gray.6", dash: "2 3", means: "sent on to another domain by an alias or forward" },
	{ name: "deferred", color: "brass.4", means: "attempts deferred" },
	{ name: "bounced", color: "buoy.5", means: "recipients given back to the sender" },
	{ name: "expired", color: "pink.6", dash: "6 3", means: "expired after waiting" },
	{ name: "rejected", color: "violet.5", dash: "2 3", means: "refused before there was a message" },
	{ name: "discarded", color: "gray.6", dash: "8 2", means: "dropped by an administrator" },
];

export const dimensions = [
	{ value: "recipient_domain", label: "Receiving domain" },
	{ value: "sender_domain", label: "Sending domain" },
	{ value: "host", label: "Receiving host" },
	{ value: "client", label: "Sending host" },
	{ value: "recipient", label: "Recipient" },
	{ value: "sender", label: "Sender" },
	{ value: "account", label: "Account" },
	{ value: "listener", label: "Listener" },
	{ value: "route", label: "Route" },
	{ value: "direction", label: "Direction" },
	{ value: "cause", label: "Cause" },
];
