/** How long until a piece that could not be read is tried again, in milliseconds. */
const pause = 2000;

/** An old tab reads itself again once in so many milliseconds at most. */
const once = 60_000;

// Whoever leaves the page takes no piece of it any more.
let leaving = false;
for (const [name, on] of [
	["beforeunload", true],
	["pagehide", true],
	["pageshow", false],
] as const) {
	window.addEventListener(name, () => {
		leaving = on;
	});
}

/**
 * Reads a piece of the console. While the service is away it is tried again until it is
 * there: the page that stands stays. If the service answers and does not have the piece, it
 * is another console than this tab's: the tab reads itself again, and gets the new one.
 */
export async function piece<T>(read: () => Promise<T>): Promise<T> {
	for (;;) {
		try {
			return await read();
		} catch (e) {
			const answers =
				!leaving &&
				(await fetch("/", { method: "HEAD", cache: "no-store" }).then(
					(r) => r.ok,
					() => false,
				));
			if (answers && Date.now() - Number(sessionStorage.getItem("read-again") ?? 0) < once) {
				throw e;
			}
			if (answers && !leaving) {
				sessionStorage.setItem("read-again", String(Date.now()));
				window.location.reload();
			}
			await new Promise((done) => setTimeout(done, pause));
		}
	}
}
