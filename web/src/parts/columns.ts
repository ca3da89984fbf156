import { useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { kept } from "../api/kept";

/** One column of a list. */
export type Column<T> = {
	key: string;
	title: string;
	/** How wide it is at least, in pixels. */
	width: number;
	/** Its share of the room that is left. */
	grow?: number;
	right?: boolean;
	/** The word by which the service sorts by it. */
	sort?: string;
	/** Sorting by it begins with the largest. */
	down?: boolean;
	cell: (row: T) => ReactNode;
	/** What is copied from it; also shown in full on hover. */
	text?: (row: T) => string;
	/** Only shown when it is chosen. */
	extra?: boolean;
};

/** The columns that a person sees of a list, in their order, with widths. */
export type Layout = { key: string; width?: number }[];

/** layoutOf is what is kept, without columns that are no more; new ones stand where they do by themselves. */
export function layoutOf<T>(columns: Column<T>[], value: unknown): Layout {
	const own = columns.filter((c) => !c.extra).map((c) => ({ key: c.key }));
	const list = (value as { columns?: Layout } | undefined)?.columns;
	if (!Array.isArray(list)) {
		return own;
	}
	const known = list.filter((l) => columns.some((c) => c.key === l.key));
	return known.length > 0 ? known : own;
}

/** widthsOf shares out the room: each column has its least width, and of the rest its part. */
export function widthsOf(columns: { width: number; grow?: number }[], room: number): number[] {
	const rest = Math.max(0, room - columns.reduce((n, c) => n + c.width, 0));
	const parts = columns.reduce((n, c) => n + (c.grow ?? 0), 0);
	return columns.map((c) => Math.floor(c.width + (parts > 0 ? (rest * (c.grow ?? 0)) / parts : 0)));
}

/** Reads and keeps a person's columns of a list. */
export function useLayout<T>(name: string, columns: Column<T>[]) {
	const client = useQueryClient();
	const all = useQuery({ queryKey: ["kept"], queryFn: kept.list, staleTime: 300_000 });
	const mine = all.data?.items.find((k) => k.kind === "table" && k.name === name && !k.shared);
	return {
		layout: layoutOf(columns, mine?.value),
		changed: mine !== undefined,
		set: async (layout: Layout | null) => {
			client.setQueryData<typeof all.data>(["kept"], (old) => {
				const rest = old?.items.filter((k) => k !== mine) ?? [];
				const entry = {
					kind: "table" as const,
					name,
					shared: false,
					by: "",
					changed_at: "",
					value: { columns: layout },
				};
				return { items: layout ? [...rest, entry] : rest, next: "" } as typeof all.data;
			});
			await (layout ? kept.keep("table", name, { columns: layout }) : kept.drop("table", name)).catch(() => {});
			void client.invalidateQueries({ queryKey: ["kept"] });
		},
	};
}
