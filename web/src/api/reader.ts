import type { Query, QueryClient } from "@tanstack/react-query";
import { isPast } from "./past";
import type { Happening } from "./stream";
import { paceOf, touches } from "./touch";

/** What may have happened while nobody listened. */
const missed: Happening = { at: "", kind: "lost", message_id: "", node: "", text: "" };

/** After so many milliseconds it is looked again whether a running request has come back. */
const wait = 100;

type Entry = {
	timer?: ReturnType<typeof setTimeout>;
	again?: ReturnType<typeof setTimeout>;
	last: number;
};

/**
 * Reader reads again what events touch: at once after the first, then as often as the
 * query's pace says. A request that is running goes on; since it may have been answered
 * before the event, the query is read once more when it has come back.
 */
export class Reader {
	private readonly next = new Map<string, Entry>();

	constructor(private readonly client: QueryClient) {}

	take(events: Happening[]) {
		for (const hash of this.next.keys()) {
			if (!this.client.getQueryCache().get(hash)) {
				this.next.delete(hash); // nobody shows it any more
			}
		}
		for (const query of this.client.getQueryCache().getAll()) {
			if (!isPast(query) && events.some((e) => touches(query.queryKey, e))) {
				this.plan(query);
			}
		}
	}

	/** What events touch, all of it: some of what happened may have been missed. */
	all() {
		this.take([missed]);
	}

	private plan(query: Query) {
		const { pace, later } = paceOf(query.queryKey);
		const entry = this.next.get(query.queryHash) ?? { last: 0 };
		this.next.set(query.queryHash, entry);
		if (entry.timer === undefined) {
			this.arm(query, entry, Math.max(0, entry.last + pace - Date.now()));
		}
		if (later > 0) {
			clearTimeout(entry.again);
			entry.again = setTimeout(() => {
				if (entry.timer === undefined) {
					this.arm(query, entry, 0);
				}
			}, later);
		}
	}

	private arm(query: Query, entry: Entry, after: number) {
		entry.timer = setTimeout(() => {
			if (query.state.fetchStatus === "fetching") {
				this.arm(query, entry, wait);
				return;
			}
			entry.timer = undefined;
			entry.last = Date.now();
			this.read(query);
		}, after);
	}

	private read(query: Query) {
		void this.client.invalidateQueries({ queryKey: query.queryKey, exact: true }, { cancelRefetch: false });
	}
}
