import { t } from "@lingui/core/macro";
import { memo } from "react";
import type { Column } from "./columns";
import classes from "./list.module.css";

type RowProps = {
	row: unknown;
	name: string;
	index: number;
	id: string;
	columns: Column<unknown>[];
	template: string;
	top: number;
	height: number;
	active: number;
	chosen: boolean;
	choose: boolean;
	opens: boolean;
	turn: (key: string) => void;
	follow: (row: unknown, away: boolean) => void;
};

/** A press on a link or button in a row is theirs, not the row's. */
const ofOwn = (e: React.MouseEvent) =>
	(e.target as Element).closest("a, button, input, label, time") !== null || String(window.getSelection()) !== "";

function RowView(p: RowProps) {
	return (
		<div
			role="row"
			className={classes.row}
			aria-rowindex={p.index + 2}
			aria-selected={p.choose ? p.chosen : undefined}
			data-key={p.name || undefined}
			data-opens={p.opens || undefined}
			data-chosen={p.chosen || undefined}
			data-active={p.active >= 0 || undefined}
			style={{ top: p.top, height: p.height, gridTemplateColumns: p.template }}
			onClick={(e) => {
				if (p.row && p.opens && !ofOwn(e)) {
					p.follow(p.row, e.ctrlKey || e.metaKey);
				}
			}}
			onAuxClick={(e) => {
				if (p.row && p.opens && e.button === 1 && !ofOwn(e)) {
					p.follow(p.row, true);
				}
			}}
		>
			{p.choose && (
				<span className={classes.cell} role="gridcell">
					<input
						type="checkbox"
						className={classes.box}
						tabIndex={-1}
						aria-label={t`Choose ${p.name}`}
						checked={p.chosen}
						disabled={!p.row}
						onChange={() => p.turn(p.name)}
					/>
				</span>
			)}
			{p.columns.map((c, col) => {
				const text = p.row ? c.text?.(p.row) : undefined;
				return (
					<span
						key={c.key}
						id={`${p.id}-${p.index}-${col}`}
						className={classes.cell}
						role="gridcell"
						title={text}
						data-right={c.right || undefined}
						data-active={p.active === col || undefined}
					>
						{p.row ? c.cell(p.row) : <span className={classes.ghost} />}
						{text && <Copy text={text} />}
					</span>
				);
			})}
		</div>
	);
}

export const Row = memo(
	RowView,
	(a, b) =>
		a.row === b.row &&
		a.top === b.top &&
		a.height === b.height &&
		a.active === b.active &&
		a.chosen === b.chosen &&
		a.template === b.template &&
		a.name === b.name &&
		a.columns.length === b.columns.length &&
		a.columns.every((c, i) => c.cell === b.columns[i]?.cell),
);

/** Copies a cell; it says so on itself for a moment. No state: there is one in most cells. */
function Copy({ text }: { text: string }) {
	return (
		<button
			type="button"
			className={classes.copy}
			tabIndex={-1}
			aria-label={t`Copy ${text}`}
			onClick={(e) => {
				e.stopPropagation();
				const button = e.currentTarget;
				void navigator.clipboard?.writeText(text).then(() => {
					button.dataset.done = "";
					window.setTimeout(() => delete button.dataset.done, 1200);
				});
			}}
		/>
	);
}

type CardProps = Pick<RowProps, "row" | "name" | "columns" | "top" | "height" | "chosen" | "id"> & {
	active: boolean;
	turn?: (key: string) => void;
	follow: (row: unknown, away: boolean) => void;
};

/** A row where there is no room for columns: the first that takes room, the others small below it. */
export function Card(p: CardProps) {
	const main = p.columns.find((c) => c.grow) ?? p.columns[0];
	return (
		<div
			role="row"
			id={p.id}
			className={classes.card}
			aria-selected={p.turn ? p.chosen : undefined}
			data-key={p.name || undefined}
			data-chosen={p.chosen || undefined}
			data-active={p.active || undefined}
			style={{ top: p.top, height: p.height }}
			onClick={(e) => {
				if (p.row && !ofOwn(e)) {
					p.follow(p.row, e.ctrlKey || e.metaKey);
				}
			}}
		>
			{p.turn && (
				<span role="gridcell">
					<input
						type="checkbox"
						className={classes.box}
						tabIndex={-1}
						aria-label={t`Choose ${p.name}`}
						checked={p.chosen}
						onChange={() => p.turn?.(p.name)}
					/>
				</span>
			)}
			<div role="gridcell" className={classes.lines}>
				<div className={classes.line}>
					{p.row !== undefined && main ? main.cell(p.row) : <span className={classes.ghost} />}
				</div>
				<div className={classes.small}>
					{p.row !== undefined &&
						p.columns
							.filter((c) => c !== main)
							.map((c) => (
								<span key={c.key}>
									{!c.grow && `${c.title.toLowerCase()} `}
									{c.cell(p.row)}
								</span>
							))}
				</div>
			</div>
		</div>
	);
}
