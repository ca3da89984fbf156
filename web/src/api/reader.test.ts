import { QueryClient, QueryObserver } from "@tanstack/react-query";
import { expect, test } from "vitest";
import { Reader } from "./reader";
import type { Happening } from "./stream";

const later = (ms: number) => new Promise((done) => setTimeout(done, ms));

const delivered: Happening = { at: "", kind: "delivered", message_id: "m1", node: "", text: "" };

test("what an event touched while it was being read is read once more", async () => {
	const client = new QueryClient();
	let truth = "deferred";
	let reads = 0;
	const observer = new QueryObserver(client, {
		queryKey: ["trace", "m1"],
		queryFn: async () => {
			const seen = truth;
			reads++;
			await later(120);
			return seen;
		},
	});
	const stop = observer.subscribe(() => undefined);
	const reader = new Reader(client);
	await later(30); // it is on its way, with what was
	truth = "delivered";
	reader.take([delivered]);
	await later(600);
	expect(client.getQueryData(["trace", "m1"])).toBe("delivered");
	expect(reads).toBe(2);
	stop();
});
