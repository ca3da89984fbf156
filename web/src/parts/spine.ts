/** One page of a list: the cursor behind which it begins, and how many of its rows are shown. */
export type Vertebra = { after: string; count: number };

/** What is known of a list so far, page by page. more: there is a page behind the last. */
export type Spine = { pages: Vertebra[]; more: boolean };

export const empty: Spine = { pages: [{ after: "", count: 0 }], more: false };

type Read = {
	/** Keys of the rows of the page that was read, in their order. */
	keys: string[];
	next: string;
	/** Keys of the page behind it, if that was read before. */
	behind?: string[];
};

/**
 * grow takes a page that was read, for the first time or again. Rows that have gone make
 * it reach into the page behind: there it is cut. Rows that came push others out at its
 * end: what is behind is then read anew, so that no row is missing.
 */
export function grow(spine: Spine, at: number, read: Read): Spine {
	const page = spine.pages[at];
	if (!page) {
		return spine;
	}
	const pages = spine.pages.slice();
	const known = pages[at + 1];
	if (!read.next) {
		pages[at] = { ...page, count: read.keys.length };
		return { pages: pages.slice(0, at + 1), more: false };
	}
	if (known && known.after !== read.next) {
		const behind = new Set(read.behind ?? []);
		const overlap = read.keys.findIndex((k) => behind.has(k));
		if (overlap >= 0) {
			pages[at] = { ...page, count: overlap };
			return { pages, more: spine.more };
		}
		pages[at] = { ...page, count: read.keys.length };
		return { pages: [...pages.slice(0, at + 1), { after: read.next, count: 0 }], more: true };
	}
	pages[at] = { ...page, count: read.keys.length };
	if (!known) {
		pages.push({ after: read.next, count: 0 });
	}
	return { pages, more: pages[pages.length - 1]?.count === 0 || spine.more };
}

/** How many rows are known. */
export const rowsOf = (spine: Spine) => spine.pages.reduce((n, p) => n + p.count, 0);

/** The page and the place in it at which a row stands; undefined behind the known ones. */
export function placeOf(spine: Spine, row: number): { page: number; at: number } | undefined {
	let before = 0;
	for (const [page, p] of spine.pages.entries()) {
		if (row < before + p.count) {
			return { page, at: row - before };
		}
		before += p.count;
	}
	return undefined;
}
