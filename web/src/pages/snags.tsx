import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Checkbox, Group, SegmentedControl, Stack, Text } from "@mantine/core";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { type Snag, type SnagWords, snags } from "../api/snags";
import type { Column } from "../parts/columns";
import { CSV } from "../parts/csv";
import { FilterText } from "../parts/filter";
import { Heading } from "../parts/heading";
import { List } from "../parts/list";
import { usePages } from "../parts/pages";
import { RowTo } from "../parts/row-to";
import { nextStep, Severity, where, whoCan } from "../parts/snag";
import { Nothing } from "../parts/states";
import { count, plural } from "../parts/text";
import { Views } from "../parts/views";
import { When } from "../parts/when";

/** What is wrong, worst first: each cause at each place once. */
export function SnagsPage() {
	const words = useSearch({ from: "/snags" }) as SnagWords;
	const navigate = useNavigate();
	const set = (change: SnagWords) => void navigate({ to: "/snags", search: { ...words, ...change }, replace: true });
	const pages = usePages(["snags", words], (after, limit) => snags.list(words, after, limit), {
		rowKey: snagKey,
		size: 50,
	});
	const counts = pages.first?.counts;
	return (
		<Stack gap="md">
			<Group justify="space-between">
				<Group gap="md">
					<Heading>
						<Trans>Snags</Trans>
					</Heading>
					<SegmentedControl
						size="xs"
						aria-label={t`State`}
						data={[
							{ value: "open", label: t`Open` },
							{ value: "closed", label: t`Over` },
						]}
						value={words.state ?? "open"}
						onChange={(v) => set({ state: v === "closed" ? "closed" : undefined })}
					/>
				</Group>
				<Group gap="md">
					{counts && (
						<Text size="sm" c="dimmed">
							<Trans>
								{plural(counts.critical ?? 0, t`critical`, t`critical`)}, {counts.serious ?? 0} serious,{" "}
								{counts.minor ?? 0} minor
							</Trans>
						</Text>
					)}
					<Views />
					<FilterText label={t`Place`} value={words.place} onChange={(place) => set({ place })} />
					<Checkbox
						size="xs"
						label={t`Muted too`}
						checked={words.muted ?? false}
						onChange={(e) => set({ muted: e.currentTarget.checked || undefined })}
					/>
				</Group>
			</Group>
			<List
				name="snags"
				label={t`Snags`}
				words={[t`snag`, t`snags`]}
				columns={snagColumns}
				pages={pages}
				rowKey={snagKey}
				lines={2}
				opens={(s) => ({ to: "/snags/$id", params: { id: s.id } })}
				above={170}
				foot={<CSV path="snags.csv" words={{ ...words, parts: true }} file="snags.csv" />}
				empty={
					<Nothing title={words.state === "closed" ? t`None has ended yet` : t`Nothing is in trouble`}>
						<Trans>
							A snag opens by itself when deliveries fail for the same cause at the same place, and ends by itself.
						</Trans>
					</Nothing>
				}
			/>
		</Stack>
	);
}

const snagKey = (s: Snag) => s.id;

const nextWords = (s: Snag) => `${nextStep(s)}${s.state === "open" ? ` (${whoCan(s)})` : ""}`;

const snagColumns: Column<Snag>[] = [
	{ key: "severity", title: t`Severity`, width: 92, cell: (s) => <Severity of={s.severity} /> },
	{
		key: "what",
		title: t`What and where`,
		width: 280,
		grow: 3,
		text: where,
		cell: (s) => (
			<>
				<RowTo to="/snags/$id" params={{ id: s.id }} strong>
					{s.title}
				</RowTo>
				<div className="mono">
					{where(s)}
					{s.mine && t` · ${s.mine} looks after it`}
				</div>
			</>
		),
	},
	{ key: "waiting", title: t`Waiting`, width: 75, right: true, cell: (s) => (s.waiting > 0 ? count(s.waiting) : "–") },
	{ key: "failed", title: t`Failed`, width: 70, right: true, cell: (s) => (s.failed > 0 ? count(s.failed) : "–") },
	{ key: "since", title: t`Since`, width: 112, cell: (s) => <When time={s.since} /> },
	{ key: "last_at", title: t`Last seen`, width: 112, cell: (s) => <When time={s.last_at} /> },
	{ key: "next", title: t`Next`, width: 260, grow: 4, text: nextWords, cell: nextWords },
	{ key: "cause", title: t`Cause`, width: 150, extra: true, text: (s) => s.cause, cell: (s) => s.cause },
	{ key: "mine", title: t`Looks after it`, width: 120, extra: true, cell: (s) => s.mine ?? "" },
];
