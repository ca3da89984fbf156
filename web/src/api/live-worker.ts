import { type LiveState, Stream } from "./stream";

/**
 * One stream for all tabs of a browser: it opens six connections to a host at most, and
 * each tab would hold one. A tab says whether it is seen; while none is, nobody listens.
 */
const tabs = new Map<MessagePort, boolean>();

const stream = new Stream((told) => {
	for (const port of tabs.keys()) {
		port.postMessage(told);
	}
});

function look() {
	if ([...tabs.values()].some(Boolean)) {
		stream.listen();
	} else {
		stream.rest();
	}
}

export type Said = "seen" | "hidden" | "gone";

(self as unknown as { onconnect: (e: MessageEvent) => void }).onconnect = (e) => {
	const port = e.ports[0];
	if (!port) {
		return;
	}
	tabs.set(port, false);
	port.onmessage = (m: MessageEvent<Said>) => {
		if (m.data === "gone") {
			tabs.delete(port);
		} else {
			tabs.set(port, m.data === "seen");
		}
		look();
	};
	port.postMessage({ state: stream.state satisfies LiveState });
};
