import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Group, List, Stack, Table, Text, TextInput, Title } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Preview, queue } from "../api/queue";
import { Failed, Loading } from "../parts/states";
import { To } from "../parts/to";
import { short, span } from "../parts/when";

/** When a message is tried, its sender told and it expires: in force, or tried out. */
export function ScheduleView() {
	const [fields, setFields] = useState({ domain: "", route: "", intervals: "", warn_after: "", expire_after: "" });
	const [words] = useDebouncedValue(fields, 300);
	const preview = useQuery({
		queryKey: ["schedule", words],
		queryFn: () => queue.preview(words),
		placeholderData: keepPreviousData,
		refetchInterval: false,
		retry: false,
	});
	const field = (name: keyof typeof fields, label: string, placeholder: string) => (
		<TextInput
			size="xs"
			label={label}
			placeholder={placeholder}
			value={fields[name]}
			onChange={(e) => setFields({ ...fields, [name]: e.currentTarget.value })}
		/>
	);
	return (
		<Stack gap="sm">
			<section className="surface" style={{ padding: 12 }}>
				<Text size="sm" mb="xs">
					<Trans>
						What happens to a message whose host never answers; each mark is an attempt, and the shade behind it how
						much later jitter may let it be. Try out other times here; set them under{" "}
						<To to="/setup/service" inherit underline="always">
							<Trans>Server</Trans>
						</To>
						, or for one route or peer there.
					</Trans>
				</Text>
				<Group gap="sm" align="end">
					{field("domain", t`In force for domain`, "greywacke.example")}
					{field("route", t`In force for route`, "to the world")}
					{field("intervals", t`Try out: intervals`, "5m,15m,1h")}
					{field("warn_after", t`Try out: delay notice after`, "4h")}
					{field("expire_after", t`Try out: expired after`, "5d")}
				</Group>
			</section>
			{preview.error ? (
				<Failed error={preview.error} />
			) : preview.data ? (
				<Drawn preview={preview.data} />
			) : (
				<Loading what={t`the schedule`} />
			)}
		</Stack>
	);
}

const width = 1000;
const height = 74;

function Drawn({ preview: p }: { preview: Preview }) {
	const end = Math.max(p.expire_after, 1);
	const x = (s: number) => 8 + (Math.min(s, end) / end) * (width - 60);
	const step = [60, 300, 900, 3600, 6 * 3600, 86400, 7 * 86400].find((s) => end / s <= 10) ?? 30 * 86400;
	const marks = Array.from({ length: Math.floor(end / step) + 1 }, (_, i) => i * step);
	return (
		<>
			<section className="surface" style={{ padding: 12 }} aria-labelledby="cost">
				<Title order={2} size="h5" id="cost" mb={4}>
					<Trans>What it costs</Trans>
				</Title>
				<List size="sm">
					{p.cost.map((c) => (
						<List.Item key={c}>{c}</List.Item>
					))}
				</List>
				<svg
					viewBox={`0 0 ${width} ${height}`}
					width="100%"
					role="img"
					aria-label={t`${p.attempts.length} attempts until ${short(p.expire_after)}`}
					style={{ marginTop: 10, color: "var(--mantine-color-text)" }}
				>
					<title>
						<Trans>Attempts on a line of time</Trans>
					</title>
					<line x1={x(0)} x2={x(end)} y1={36} y2={36} stroke="currentColor" strokeOpacity={0.3} />
					{marks.map((m) => (
						<g key={m}>
							<line x1={x(m)} x2={x(m)} y1={36} y2={42} stroke="currentColor" strokeOpacity={0.4} />
							<text x={x(m)} y={56} fontSize={11} fill="currentColor" textAnchor={m === 0 ? "start" : "middle"}>
								{m === 0 ? "received" : span(m)}
							</text>
						</g>
					))}
					{p.attempts.map((a) => (
						<g key={a.n} fill="var(--mantine-primary-color-filled)">
							<rect x={x(a.earliest)} width={x(a.latest) - x(a.earliest)} y={30} height={12} opacity={0.12} />
							<rect x={x(a.earliest) - 1} width={2} y={24} height={24} />
						</g>
					))}
					{p.warn_after > 0 && p.warn_after < p.expire_after && (
						<g>
							<line
								x1={x(p.warn_after)}
								x2={x(p.warn_after)}
								y1={14}
								y2={52}
								stroke="var(--mantine-color-brass-6)"
								strokeWidth={3}
							/>
							<text x={x(p.warn_after)} y={11} fontSize={11} fill="currentColor" textAnchor="middle">
								<Trans>delay notice</Trans>
							</text>
						</g>
					)}
					<line x1={x(end)} x2={x(end)} y1={14} y2={52} stroke="var(--mantine-color-buoy-6)" strokeWidth={3} />
					<text x={x(end)} y={11} fontSize={11} fill="currentColor" textAnchor="middle">
						<Trans>expired</Trans>
					</text>
				</svg>
			</section>
			<section className="surface" aria-labelledby="attempts">
				<Title order={2} size="h5" id="attempts" p="sm" pb={0}>
					<Trans>{p.attempts.length} attempts</Trans>
				</Title>
				{/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard */}
				<section style={{ maxHeight: 320, overflow: "auto" }} aria-label={t`The attempts`} tabIndex={0}>
					<Table verticalSpacing={3} stickyHeader>
						<Table.Thead>
							<Table.Tr>
								<Table.Th ta="right" w={90}>
									<Trans>Attempt</Trans>
								</Table.Th>
								<Table.Th ta="right" w={120}>
									<Trans>After</Trans>
								</Table.Th>
								<Table.Th ta="right" w={140}>
									<Trans>At the latest</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>Then</Trans>
								</Table.Th>
							</Table.Tr>
						</Table.Thead>
						<Table.Tbody>
							{p.attempts.map((a) => (
								<Table.Tr key={a.n}>
									<Table.Td ta="right">{a.n}</Table.Td>
									<Table.Td ta="right">{a.earliest === 0 ? t`immediately` : short(a.earliest)}</Table.Td>
									<Table.Td ta="right">{a.latest === 0 ? t`immediately` : short(a.latest)}</Table.Td>
									<Table.Td />
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				</section>
			</section>
		</>
	);
}
