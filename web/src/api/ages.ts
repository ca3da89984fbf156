import { ask, query } from "./ask";
import type { Page } from "./client";
import type { components } from "./schema";

type LaneAges = components["schemas"]["LaneAges"];
type Ages = LaneAges["ages"];

type Waiting = { lane: string; done: (ages: Ages) => void; fail: (e: unknown) => void };

/** As many lanes are asked for at once; the service takes no more. */
const most = 100;

let waiting: Waiting[] = [];

/** The ages of a lane's messages. What is asked for in one moment goes as one request. */
export function agesOf(lane: string): Promise<Ages> {
	return new Promise((done, fail) => {
		waiting.push({ lane, done, fail });
		if (waiting.length === 1) {
			setTimeout(send, 20);
		}
	});
}

async function send() {
	const all = waiting;
	waiting = [];
	for (let i = 0; i < all.length; i += most) {
		const part = all.slice(i, i + most);
		try {
			const page = await ask<Page<LaneAges>>("GET", `lane-ages${query({ lane: part.map((w) => w.lane).join(",") })}`);
			const by = new Map(page.items.map((x) => [x.lane, x.ages]));
			for (const w of part) {
				w.done(by.get(w.lane) ?? []);
			}
		} catch (e) {
			for (const w of part) {
				w.fail(e);
			}
		}
	}
}
