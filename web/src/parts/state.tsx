import { wordOf } from "./names";
import classes from "./state.module.css";

/** tone says what a state asks of a person: nothing, patience, or help. */
const tone: Record<string, "moves" | "waits" | "trouble" | "still"> = {
	moving: "moves",
	delivered: "moves",
	sending: "moves",
	waiting: "waits",
	deferred: "waits",
	resting: "waits",
	paused: "still",
	held: "still",
	discarded: "still",
	stranded: "trouble",
	parked: "still",
	bounced: "trouble",
	expired: "trouble",
	refused: "trouble",
	rejected: "trouble",
	broken: "trouble",
	partly: "waits",
	passed: "moves",
	received: "moves",
	forwarded: "moves",
	open: "moves",
	idle: "still",
	lane: "still",
};

/** Each tone has a shape of its own, so that colour is never alone. */
const shape = { moves: "●", waits: "◐", trouble: "▲", still: "■" };

/** The worst state counts: that is what somebody asks about. */
const worstFirst = ["bounced", "expired", "deferred", "held", "waiting", "sending", "delivered", "discarded"];

/** worstOf is the worst state of a message's deliveries. */
export function worstOf(deliveries: { state: string }[]): string | undefined {
	return worstFirst.find((s) => deliveries.some((d) => d.state === s));
}

/** State shows the state of a lane or a delivery. */
export function State({ state }: { state: string }) {
	const t = tone[state] ?? "still";
	return (
		<span className={classes.state} data-tone={t}>
			<span aria-hidden="true">{shape[t]}</span> {wordOf(state)}
		</span>
	);
}
