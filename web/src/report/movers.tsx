import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Group, Select, Table, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { periodEnded } from "../api/past";
import { type ReportWords, tracing } from "../api/trace";
import { Loading } from "../parts/loading";
import { wordOf } from "../parts/names";
import { Failed } from "../parts/states";
import { count } from "../parts/text";
import { day } from "../parts/time";
import { Figure } from "./figure";
import { dimensions, kinds } from "./kinds";
import { Panel } from "./panel";
import classes from "./report.module.css";

/** What changed most against the same hours of the weeks before. */
export function Movers({ words }: { words: ReportWords }) {
	const [dim, setDim] = useState("recipient_domain");
	const [kind, setKind] = useState("delivered");
	const asked = { since: words.since, until: words.until, archive: words.archive };
	const movers = useQuery({
		queryKey: ["movers", dim, kind, asked],
		queryFn: () => tracing.movers({ ...asked, dim, kind, limit: 10 }),
		meta: { past: () => periodEnded(words, words.until) },
	});
	const m = movers.data;
	const most = Math.max(1, ...(m?.items ?? []).map((x) => Math.abs(x.now - x.before)));
	return (
		<Panel
			name="movers"
			title={t`What moved most`}
			note={m && t`against ${day(m.before_since)} to ${day(m.before_until)}`}
			right={
				<Group gap={4}>
					<Select
						size="xs"
						w={150}
						aria-label={t`Movers by what`}
						data={dimensions}
						value={dim}
						onChange={(v) => v && setDim(v)}
						allowDeselect={false}
					/>
					<Select
						size="xs"
						w={110}
						aria-label={t`Movers of which kind`}
						data={kinds.map((k) => ({ value: k.name, label: wordOf(k.name) }))}
						value={kind}
						onChange={(v) => v && setKind(v)}
						allowDeselect={false}
					/>
				</Group>
			}
		>
			{!m ? (
				movers.error ? (
					<Failed error={movers.error} />
				) : (
					<Loading what={t`what moved`} />
				)
			) : m.items.length === 0 ? (
				<Text size="sm" c="dimmed" p="sm" pt={0}>
					<Trans>It is as it was.</Trans>
				</Text>
			) : (
				<Table horizontalSpacing="sm" verticalSpacing={3} layout="fixed">
					<Table.Thead>
						<Table.Tr>
							<Table.Th>{dimensions.find((d) => d.value === dim)?.label}</Table.Th>
							<Table.Th w={80} ta="right">
								<Trans>Before</Trans>
							</Table.Th>
							<Table.Th w={80} ta="right">
								<Trans>Now</Trans>
							</Table.Th>
							<Table.Th w={200}>
								<Trans>Change</Trans>
							</Table.Th>
						</Table.Tr>
					</Table.Thead>
					<Table.Tbody>
						{m.items.map((x) => (
							<Table.Tr key={x.value}>
								<Table.Td className="mono" title={x.value}>
									{x.title || x.value}
								</Table.Td>
								<Table.Td ta="right">
									<Figure
										n={x.before}
										kind={kind}
										words={words}
										dim={dim}
										value={x.value}
										since={m.before_since}
										until={m.before_until}
									/>
								</Table.Td>
								<Table.Td ta="right">
									<Figure n={x.now} kind={kind} words={words} dim={dim} value={x.value} />
								</Table.Td>
								<Table.Td>
									<Change by={x.now - x.before} most={most} />
								</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			)}
		</Panel>
	);
}

/** A bar to the right for more, to the left for less, with its number. */
function Change({ by, most }: { by: number; most: number }) {
	return (
		<div className={classes.change}>
			<span className={classes.less}>
				{by < 0 && <span style={{ width: `${(-by / most) * 100}%` }} className={classes.bar} />}
			</span>
			<span className={classes.more}>
				{by > 0 && <span style={{ width: `${(by / most) * 100}%` }} className={classes.bar} />}
			</span>
			<span className={classes.by}>
				{by > 0 ? "+" : "−"}
				{count(Math.abs(by))}
			</span>
		</div>
	);
}
