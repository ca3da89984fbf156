import { t } from "@lingui/core/macro";

/** A kind of what is counted, with a colour and a dash of its own: colour is never alone. */
type Kind = { name: string; color: string; dash?: string; means: string };

export const kinds: Kind[] = [
	{ name: "received", color: "kelp.6", means: t`messages taken` },
	{ name: "delivered", color: "kelp.4", dash: "6 3", means: t`recipients reached` },
	{ name: "forwarded", color: "gray.6", dash: "2 3", means: t`sent on to another domain by an alias or forward` },
	{ name: "deferred", color: "brass.4", means: t`attempts deferred` },
	{ name: "bounced", color: "buoy.5", means: t`recipients given back to the sender` },
	{ name: "expired", color: "pink.6", dash: "6 3", means: t`expired after waiting` },
	{ name: "rejected", color: "violet.5", dash: "2 3", means: t`refused before there was a message` },
	{ name: "discarded", color: "gray.6", dash: "8 2", means: t`dropped by an administrator` },
];

export const dimensions = [
	{ value: "recipient_domain", label: t`Receiving domain` },
	{ value: "sender_domain", label: t`Sending domain` },
	{ value: "host", label: t`Receiving host` },
	{ value: "client", label: t`Sending host` },
	{ value: "recipient", label: t`Recipient` },
	{ value: "sender", label: t`Sender` },
	{ value: "account", label: t`Account` },
	{ value: "listener", label: t`Listener` },
	{ value: "route", label: t`Route` },
	{ value: "direction", label: t`Direction` },
	{ value: "cause", label: t`Cause` },
	{ value: "gate", label: t`Gate` },
];
