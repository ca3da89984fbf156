import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Group, SegmentedControl, Table, Text, UnstyledButton } from "@mantine/core";
import { useState } from "react";
import classes from "./flow.module.css";
import { type Bar, heightsOf, marksOf, type Scale, topOf } from "./flow-scale";
import { count } from "./text";

/**
 * Bars of time, stacked, on a scale that a spike does not flatten. It is drawn without
 * the charts' library, which is larger than the whole page.
 */
export function FlowChart({ bars, names, every }: { bars: Bar[]; names: string[]; every: number }) {
	const [scale, setScale] = useState<Scale>("clipped");
	const [numbers, setNumbers] = useState(false);
	const top = topOf(bars, scale);
	const sums = names.map((_, n) => bars.reduce((all, b) => all + (b.parts[n] ?? 0), 0));
	return (
		<>
			<Group justify="space-between" px="sm">
				<Text size="xs" c="dimmed" component="div">
					{names.map((name, n) => (
						<span key={name} style={{ marginRight: 12 }}>
							<span className={`${classes.part} ${classes.key}`} data-n={n} />
							{name} {count(sums[n] ?? 0)}
						</span>
					))}
				</Text>
				<Group gap="xs">
					<UnstyledButton fz="xs" td="underline" aria-expanded={numbers} onClick={() => setNumbers(!numbers)}>
						{numbers ? t`Hide the numbers` : t`Show the numbers`}
					</UnstyledButton>
					<SegmentedControl
						size="xs"
						aria-label={t`Scale`}
						data={[
							{ value: "clipped", label: t`usual` },
							{ value: "linear", label: t`all` },
							{ value: "log", label: t`log` },
						]}
						value={scale}
						onChange={(v) => setScale(v as Scale)}
					/>
				</Group>
			</Group>
			<div
				className={classes.chart}
				role="img"
				aria-label={names.map((name, n) => `${name} ${count(sums[n] ?? 0)}`).join(", ")}
			>
				{marksOf(top, scale).map((m) => (
					<div
						key={m}
						className={classes.mark}
						style={{ bottom: `${100 * (scale === "log" ? Math.log1p(m) / Math.log1p(top) : m / top)}%` }}
					>
						<span>{count(m)}</span>
					</div>
				))}
				{bars.map((b, i) => {
					const { parts, cut } = heightsOf(b, top, scale);
					const all = b.parts.reduce((n, p) => n + p, 0);
					return (
						<div
							key={b.label}
							className={classes.bar}
							title={`${b.label}: ${names.map((name, n) => `${name} ${count(b.parts[n] ?? 0)}`).join(", ")}`}
						>
							{parts.map((share, n) => (
								// biome-ignore lint/suspicious/noArrayIndexKey: the parts of a bar do not move
								<div key={n} className={classes.part} data-n={n} style={{ height: `${share * 100}%` }} />
							))}
							{cut && <span className={classes.cut}>▲ {count(all)}</span>}
							{i % every === 0 && <span className={classes.label}>{b.label}</span>}
						</div>
					);
				})}
			</div>
			{numbers && (
				<Table.ScrollContainer minWidth={300}>
					<Table verticalSpacing={2} fz="xs">
						<Table.Thead>
							<Table.Tr>
								<Table.Th>
									<Trans>Hour</Trans>
								</Table.Th>
								{names.map((n) => (
									<Table.Th key={n} ta="right">
										{n}
									</Table.Th>
								))}
							</Table.Tr>
						</Table.Thead>
						<Table.Tbody>
							{bars.map((b) => (
								<Table.Tr key={b.label}>
									<Table.Td>{b.label}</Table.Td>
									{names.map((name, n) => (
										<Table.Td key={name} ta="right">
											{count(b.parts[n] ?? 0)}
										</Table.Td>
									))}
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				</Table.ScrollContainer>
			)}
		</>
	);
}
