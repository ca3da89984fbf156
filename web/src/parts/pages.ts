import { type QueryKey, useQueries, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { Page } from "../api/client";
import { empty, grow, placeOf, rowsOf, type Spine } from "./spine";

/** A list that is read page by page as it is scrolled, and of which only what is seen is kept. */
export type Pages<T, P> = {
	/** How many rows are known so far. */
	count: number;
	/** Whether there are rows behind them. */
	more: boolean;
	row: (n: number) => T | undefined;
	/** Tells which rows are seen: their pages are read, and kept up to date. */
	see: (from: number, to: number) => void;
	/** The first page, with what it says of the whole list. */
	first?: P;
	/** The page behind which the list is not known yet. */
	last?: P;
	error: Error | null;
	loading: boolean;
	again: () => void;
	/** All rows that were read and are still kept. */
	kept: () => T[];
};

type Options<T> = {
	rowKey: (row: T) => string;
	size?: number;
	past?: () => boolean;
	enabled?: boolean;
};

export function usePages<T, P extends Page<T>>(
	key: QueryKey,
	read: (after: string, limit: number) => Promise<P>,
	{ rowKey, size = 200, past, enabled = true }: Options<T>,
): Pages<T, P> {
	const client = useQueryClient();
	const name = JSON.stringify(key);
	const [state, setState] = useState<{ name: string; spine: Spine; from: number; to: number }>({
		name,
		spine: empty,
		from: 0,
		to: 0,
	});
	const now = state.name === name ? state : { name, spine: empty, from: 0, to: 0 };
	const { spine } = now;
	const wanted = useMemo(() => {
		const end = spine.pages.length - 1;
		const first = placeOf(spine, now.from)?.page ?? end;
		const last = placeOf(spine, now.to)?.page ?? end;
		const list = [];
		// The page behind is read ahead: who scrolls on does not wait for it.
		for (let n = first; n <= Math.min(last + 1, end); n++) {
			list.push(n);
		}
		return list[0] === 0 ? list : [0, ...list];
	}, [spine, now.from, now.to]);
	const pageKey = (after: string) => [...key, { after, size }];
	const answers = useQueries({
		queries: wanted.map((n) => {
			const after = spine.pages[n]?.after ?? "";
			return {
				queryKey: pageKey(after),
				queryFn: () => read(after, size),
				gcTime: 60_000,
				enabled,
				meta: past && { past: () => past() },
			};
		}),
	});
	const keysOf = (p: P | undefined) => p?.items.map(rowKey);
	const dataOf = (n: number) => client.getQueryData<P>(pageKey(spine.pages[n]?.after ?? ""));
	const marks = answers.map((a) => a.dataUpdatedAt).join();
	// biome-ignore lint/correctness/useExhaustiveDependencies: it follows what was read, by its marks
	useEffect(() => {
		let next = spine;
		for (const [i, n] of wanted.entries()) {
			const data = answers[i]?.data;
			const seen = n >= (wanted[1] ?? 0) || n === 0;
			const deep = n === 0 && (placeOf(spine, now.from)?.page ?? 0) > 0;
			if (data && seen && !(deep && spine.pages.length > 1)) {
				next = grow(next, n, { keys: keysOf(data) ?? [], next: data.next, behind: keysOf(dataOf(n + 1)) });
			}
		}
		if (JSON.stringify(next) !== JSON.stringify(spine) || state.name !== name) {
			setState({ ...now, spine: next });
		}
	}, [marks, name, wanted]);
	const shown = new Map(wanted.map((n, i) => [n, answers[i]?.data]));
	const row = (n: number): T | undefined => {
		const at = placeOf(spine, n);
		return at && (shown.get(at.page) ?? dataOf(at.page))?.items[at.at];
	};
	const latest = useRef(now);
	latest.current = now;
	const see = useCallback((from: number, to: number) => {
		const s = latest.current;
		const page = (row: number) => placeOf(s.spine, row)?.page;
		// Only another page is news; what is seen of one changes with every frame.
		if (page(s.from) !== page(from) || page(s.to) !== page(to)) {
			setState({ ...s, from, to });
		}
	}, []);
	const failed = answers.find((a) => a.error);
	return {
		count: rowsOf(spine),
		more: spine.more,
		row,
		see,
		first: answers[0]?.data,
		last: dataOf(spine.pages.length - 1) ?? dataOf(spine.pages.length - 2) ?? answers[0]?.data,
		error: (answers[0]?.data ? null : failed?.error) ?? null,
		loading: answers[0]?.isPending ?? true,
		again: () => void client.invalidateQueries({ queryKey: key }),
		kept: () => spine.pages.flatMap((_, n) => dataOf(n)?.items ?? []),
	};
}

/** A list that is read as a whole, in the form of one that is read page by page. */
export function whole<T>(query: {
	data?: { items: T[] };
	error: Error | null;
	isPending: boolean;
	refetch: () => unknown;
}): Pages<T, { items: T[] }> {
	const items = query.data?.items ?? [];
	return {
		count: items.length,
		more: false,
		row: (n) => items[n],
		see: () => {},
		first: query.data,
		last: query.data,
		error: query.data ? null : query.error,
		loading: query.isPending,
		again: () => void query.refetch(),
		kept: () => items,
	};
}
