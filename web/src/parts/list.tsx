import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Text, UnstyledButton } from "@mantine/core";
import { useElementSize } from "@mantine/hooks";
import { useRouter } from "@tanstack/react-router";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type ReactNode, useCallback, useId, useLayoutEffect, useRef, useState } from "react";
import { useChoices } from "../api/choices";
import { type Column, useLayout, widthsOf } from "./columns";
import { ColumnsMenu } from "./columns-menu";
import classes from "./list.module.css";
import { Card, Row } from "./list-row";
import type { Pages } from "./pages";
import { count, plural } from "./text";

/** Which rows are chosen: some by their keys, or all that match the filter. */
export type Choice = { all: false; keys: ReadonlySet<string> } | { all: true };

export const none: Choice = { all: false, keys: new Set() };

/** Where a row leads. */
export type Target = { to: string; params?: Record<string, string>; search?: Record<string, unknown> };

type ListProps<T, P> = {
	/** Names the list for what is kept of its columns. */
	name: string;
	label: string;
	/** One and many rows. */
	words: [string, string];
	columns: Column<T>[];
	pages: Pages<T, P>;
	rowKey: (row: T) => string;
	opens?: (row: T) => Target;
	onOpen?: (row: T) => void;
	sort?: { by: string; down: boolean };
	onSort?: (by: string, down: boolean) => void;
	choice?: Choice;
	onChoice?: (c: Choice) => void;
	/** How many all that match are, once they are counted. */
	total?: number;
	/** The key a: what can be done with what is chosen; the marked row, if none is. */
	onAct?: () => void;
	empty: ReactNode;
	/** What is above the list on its page, in pixels. */
	above?: number;
	/** What stands at the right of the foot. */
	foot?: ReactNode;
	/** How high a row is, if more than a line. */
	lines?: number;
};

const narrow = 640;

/** How wide the column of boxes is, in pixels. */
const box = 34;

/**
 * List is the table of all lists. It has roles in place of a table element, which cannot hold
 * rows that are made as they are seen; the grid as a whole has the keyboard. Rows are made only where they are seen, columns can be
 * chosen, ordered and widened, and the keyboard does everything: arrows, Page Up and Down,
 * Home, End, Enter to open, Space to choose, Ctrl-A for all, c to copy a cell.
 */
export function List<T, P>(props: ListProps<T, P>) {
	const { columns, pages, rowKey, choice, onChoice, label } = props;
	const { layout, set, changed } = useLayout(props.name, columns);
	const { dense } = useChoices();
	const { ref: frame, width } = useElementSize();
	const scroller = useRef<HTMLDivElement>(null);
	const router = useRouter();
	const id = useId();
	const [active, setActive] = useState<{ row: number; col: number } | null>(null);
	const cards = width > 0 && width < narrow;
	const shown = layout.flatMap((l) => {
		const c = columns.find((x) => x.key === l.key);
		return c ? [{ ...c, width: l.width ?? c.width, grow: l.width ? 0 : c.grow }] : [];
	});
	const height = cards ? 84 : (dense ? 30 : 40) + ((props.lines ?? 1) - 1) * 17;
	const room = pages.count + (pages.more ? 100 : 0);
	const rows = useVirtualizer({
		count: room,
		getScrollElement: () => scroller.current,
		estimateSize: () => height,
		overscan: 6,
	});
	// biome-ignore lint/correctness/useExhaustiveDependencies: rows of another height are measured anew
	useLayoutEffect(() => rows.measure(), [height]);
	const items = rows.getVirtualItems();
	const from = items[0]?.index ?? 0;
	const to = items[items.length - 1]?.index ?? 0;
	// biome-ignore lint/correctness/useExhaustiveDependencies: it follows what is seen
	useLayoutEffect(() => pages.see(from, to + 40), [from, to, pages.count]);
	const widths = widthsOf(shown, (scroller.current?.clientWidth ?? width) - (choice ? box : 0));
	const template = [...(choice ? [box] : []), ...widths].map((w) => `${w}px`).join(" ");

	const follow = (row: T, away: boolean) => {
		if (props.onOpen) {
			props.onOpen(row);
			return;
		}
		const target = props.opens?.(row);
		if (target && away) {
			window.open(router.buildLocation(target).href, "_blank", "noopener");
		} else if (target) {
			void router.navigate(target);
		}
	};
	const turn = (key: string) => {
		if (!choice || !onChoice) {
			return;
		}
		const keys = new Set(choice.all ? pages.kept().map(rowKey) : choice.keys);
		if (!keys.delete(key)) {
			keys.add(key);
		}
		onChoice({ all: false, keys });
	};
	// Rows are drawn anew only when they change: what they call stays the same, and is the latest.
	const latest = useRef({ turn, follow });
	latest.current = { turn, follow };
	const turnRow = useCallback((key: string) => latest.current.turn(key), []);
	const followRow = useCallback((row: unknown, away: boolean) => latest.current.follow(row as T, away), []);
	const move = (row: number, col: number) => {
		const next = {
			row: Math.max(0, Math.min(row, pages.count - 1)),
			col: Math.max(0, Math.min(col, shown.length - 1)),
		};
		setActive(next);
		rows.scrollToIndex(next.row);
	};
	const onKey = (e: KeyboardEvent) => {
		if (e.target !== e.currentTarget || pages.count === 0) {
			return;
		}
		const at = active ?? { row: -1, col: 0 };
		const page = Math.max(1, Math.floor((scroller.current?.clientHeight ?? 300) / height) - 1);
		const row = active ? pages.row(active.row) : undefined;
		const moves: Record<string, () => void> = {
			ArrowDown: () => move(at.row + 1, at.col),
			ArrowUp: () => move(at.row - 1, at.col),
			ArrowRight: () => move(Math.max(at.row, 0), at.col + 1),
			ArrowLeft: () => move(Math.max(at.row, 0), at.col - 1),
			PageDown: () => move(at.row + page, at.col),
			PageUp: () => move(at.row - page, at.col),
			Home: () => move(0, at.col),
			End: () => move(pages.count - 1, at.col),
			Enter: () => row && follow(row, e.ctrlKey || e.metaKey),
			" ": () => row && turn(rowKey(row)),
			a: () => {
				if (row && choice && !choice.all && choice.keys.size === 0) {
					turn(rowKey(row));
				}
				props.onAct?.();
			},
			c: () => {
				const text = row && shown[at.col]?.text?.(row);
				if (text) {
					void navigator.clipboard?.writeText(text);
				}
			},
		};
		if ((e.ctrlKey || e.metaKey) && e.key === "a" && onChoice) {
			e.preventDefault();
			onChoice({ all: true });
		} else if (!e.ctrlKey && !e.metaKey && !e.altKey && moves[e.key]) {
			e.preventDefault();
			moves[e.key]?.();
		}
	};

	if (pages.error) {
		return (
			<Alert color="buoy" title={t`This cannot be shown`} role="alert">
				<Text size="sm">{pages.error.message}</Text>
				<Button size="xs" mt="xs" variant="default" onClick={pages.again}>
					<Trans>Try again</Trans>
				</Button>
			</Alert>
		);
	}
	if (!pages.loading && pages.count === 0 && !pages.more) {
		return <div className="surface">{props.empty}</div>;
	}
	const chosen = (key: string) => (choice ? choice.all || choice.keys.has(key) : false);
	const allShown = choice && !choice.all && choice.keys.size > 0;
	return (
		<div
			ref={frame}
			className={`surface ${classes.frame}`}
			style={{ "--list-above": `${props.above ?? 190}px` } as React.CSSProperties}
		>
			<div
				ref={scroller}
				className={classes.grid}
				role="grid"
				aria-label={label}
				aria-rowcount={pages.more ? -1 : pages.count + 1}
				aria-colcount={shown.length}
				aria-multiselectable={choice ? true : undefined}
				aria-busy={pages.loading}
				data-lines={(props.lines ?? 1) > 1 || undefined}
				aria-activedescendant={active ? `${id}-${active.row}-${active.col}` : undefined}
				tabIndex={0}
				onKeyDown={onKey}
			>
				{!cards && (
					<div className={classes.head} role="row" aria-rowindex={1} style={{ gridTemplateColumns: template }}>
						{choice && (
							<span className={classes.th} role="columnheader">
								<input
									type="checkbox"
									className={classes.box}
									aria-label={t`Choose all that match`}
									checked={choice.all}
									ref={(e) => {
										if (e) {
											e.indeterminate = Boolean(allShown);
										}
									}}
									onChange={() => onChoice?.(choice.all || allShown ? none : { all: true })}
								/>
							</span>
						)}
						{shown.map((c) => (
							<Head
								key={c.key}
								column={c}
								sort={props.sort}
								onSort={props.onSort}
								onWidth={(w) => void set(layout.map((l) => (l.key === c.key ? { ...l, width: w } : l)))}
							/>
						))}
					</div>
				)}
				<div className={classes.body} style={{ height: rows.getTotalSize() }}>
					{items.map((v) => {
						const row = pages.row(v.index);
						const key = row ? rowKey(row) : "";
						return cards ? (
							<Card
								key={v.index}
								row={row}
								name={key}
								columns={shown as Column<unknown>[]}
								top={v.start}
								height={height}
								id={`${id}-${v.index}-${active?.col ?? 0}`}
								active={active?.row === v.index}
								chosen={chosen(key)}
								turn={choice ? turnRow : undefined}
								follow={followRow}
							/>
						) : (
							<Row
								key={v.index}
								row={row}
								name={key}
								index={v.index}
								id={id}
								columns={shown as Column<unknown>[]}
								template={template}
								top={v.start}
								height={height}
								active={active?.row === v.index ? active.col : -1}
								chosen={chosen(key)}
								choose={Boolean(choice)}
								opens={Boolean(props.opens || props.onOpen)}
								turn={turnRow}
								follow={followRow}
							/>
						);
					})}
				</div>
			</div>
			<div className={classes.foot}>
				<span role="status">
					{pages.loading
						? t`Reading …`
						: pages.more
							? t`${plural(pages.count, ...props.words)} read so far; scroll for more`
							: t`${plural(pages.count, ...props.words)}, all that match`}
					{choice?.all &&
						(props.total === undefined
							? t`; all that match are chosen`
							: t`; all ${count(props.total)} that match are chosen`)}
					{choice && !choice.all && choice.keys.size > 0 && t`; ${count(choice.keys.size)} chosen`}
				</span>
				<span style={{ display: "flex", gap: 10 }}>
					{props.foot}
					<ColumnsMenu columns={columns as Column<unknown>[]} layout={layout} changed={changed} set={set} />
				</span>
			</div>
		</div>
	);
}

function Head<T>({
	column: c,
	sort,
	onSort,
	onWidth,
}: {
	column: Column<T>;
	sort?: { by: string; down: boolean };
	onSort?: (by: string, down: boolean) => void;
	onWidth: (w: number) => void;
}) {
	const by = c.sort;
	const mine = by !== undefined && sort?.by === by;
	return (
		<span
			className={classes.th}
			role="columnheader"
			data-right={c.right || undefined}
			aria-sort={by ? (mine ? (sort.down ? "descending" : "ascending") : "none") : undefined}
			title={c.title}
		>
			{by && onSort ? (
				<UnstyledButton onClick={() => onSort(by, mine ? !sort.down : (c.down ?? false))}>
					{c.title} {mine && <span aria-hidden="true">{sort.down ? "↓" : "↑"}</span>}
				</UnstyledButton>
			) : (
				c.title
			)}
			<span
				className={classes.edge}
				aria-hidden="true"
				onPointerDown={(e) => {
					const start = e.clientX;
					const edge = e.currentTarget;
					const first = edge.parentElement?.getBoundingClientRect().width ?? c.width;
					edge.setPointerCapture(e.pointerId);
					edge.onpointerup = (u) => {
						edge.onpointerup = null;
						if (Math.abs(u.clientX - start) > 3) {
							onWidth(Math.max(40, Math.round(first + u.clientX - start)));
						}
					};
				}}
			/>
		</span>
	);
}
