import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Group, SimpleGrid, Stack, Table, Text, Textarea, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useParams } from "@tanstack/react-router";
import { useState } from "react";
import { type Snag, snags } from "../api/snags";
import { Bars } from "../parts/drawn";
import { Heading } from "../parts/heading";
import { useMayWork } from "../parts/may";
import { Reply } from "../parts/reply";
import { helps, Severity, SnagTable, where, whoCan } from "../parts/snag";
import classes from "../parts/snag.module.css";
import { Fixes } from "../parts/snag-fixes";
import { Failed, Loading } from "../parts/states";
import { count, shown } from "../parts/text";
import { moment, zoneName } from "../parts/time";
import { To } from "../parts/to";
import { exact, When } from "../parts/when";

/** One trouble: what it means, what to do, how much it touches, one example. */
export function SnagPage() {
	const { id } = useParams({ from: "/snags/$id" });
	const snag = useQuery({ queryKey: ["snag", id], queryFn: () => snags.show(id) });
	if (!snag.data) {
		return snag.error ? <Failed error={snag.error} /> : <Loading what={t`the snag`} />;
	}
	const s = snag.data;
	return (
		<Stack gap="md">
			<Group justify="space-between" align="start">
				<div>
					<Heading>{s.title}</Heading>
					<Text size="sm">
						<Severity of={s.severity} />{" "}
						<Trans>
							at <span className="mono">{where(s)}</span>, since <When time={s.since} /> ({exact(s.since)}), last seen{" "}
							<When time={s.last_at} />
						</Trans>
					</Text>
				</div>
				<People snag={s} />
			</Group>
			<section
				className={classes.means}
				data-severity={s.severity}
				data-over={s.state === "closed" || undefined}
				aria-live="polite"
			>
				<Stack gap={8}>
					{s.state === "closed" ? (
						<Text fw={600}>
							<Trans>
								It is over: {s.ended}, {exact(s.closed_at ?? s.last_at)}.
							</Trans>
						</Text>
					) : (
						<>
							<Text>
								{s.means} <b>{saysWaiting(s)}</b>; {whoCan(s)}.
							</Text>
							{s.doubt && <Text>{s.doubt}</Text>}
							{s.fix && s.fixed_at && (
								<Text>
									<Trans>
										“{s.fix}” was done, <When time={s.fixed_at} />:{" "}
										<b>{s.checking ? t`it is being checked` : t`it was met again since`}</b>.
									</Trans>
								</Text>
							)}
							<Text fw={600}>{s.advice}</Text>
							<Fixes snag={s} />
						</>
					)}
				</Stack>
			</section>
			<SimpleGrid cols={{ base: 2, sm: 4 }} spacing="xs">
				<Figure label={t`messages waiting`} value={count(s.waiting)} />
				<Figure
					label={s.refused ? t`messages refused` : t`messages failed`}
					value={count(s.refused ? s.refused : s.failed)}
				/>
				<Figure label={t`times met`} value={count(s.attempts)} />
				<Figure label={s.parts ? t`places` : t`senders touched`} value={s.parts ? count(s.parts) : some(s.senders)} />
			</SimpleGrid>
			<SimpleGrid cols={{ base: 1, md: 2 }}>
				<Stack gap="md">
					<Example snag={s} />
					<StoryOf id={s.id} />
				</Stack>
				<Stack gap="md">
					<Hours snag={s} />
					<Touched snag={s} />
				</Stack>
			</SimpleGrid>
			{s.parts !== undefined && s.parts > 0 && <Parts id={s.id} />}
		</Stack>
	);
}

/** What has to do with it, in order of time, and what ended it before. */
function StoryOf({ id }: { id: string }) {
	const story = useQuery({ queryKey: ["snags", id, "story"], queryFn: () => snags.story(id) });
	if (!story.data) {
		return null;
	}
	const { moments, similar } = story.data;
	return (
		<section className="surface" aria-labelledby="story">
			<Title order={2} size="h5" id="story" p="sm" pb={4}>
				<Trans>In order of time</Trans>
			</Title>
			<Table verticalSpacing={4} horizontalSpacing="sm">
				<Table.Tbody>
					{(moments ?? []).map((m) => (
						<Table.Tr key={m.at + m.kind + m.text}>
							<Table.Td w={170} style={{ whiteSpace: "nowrap" }}>
								<When time={m.at} />
							</Table.Td>
							<Table.Td>
								<Text size="sm" fw={m.before ? 600 : undefined}>
									<Moment moment={m} />
									{m.before && t` – shortly before it began`}
								</Text>
							</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
			{(similar ?? []).length > 0 && (
				<Stack gap={2} p="sm" pt={8}>
					<Title order={3} size="h6">
						<Trans>The same before, and what ended it</Trans>
					</Title>
					{(similar ?? []).map((p) => (
						<Text size="sm" key={p.id}>
							<To to="/snags/$id" params={{ id: p.id }} inherit>
								{p.place.name || t`our side`}
							</To>
							, <When time={p.since} />: {p.ended}
						</Text>
					))}
				</Stack>
			)}
		</section>
	);
}

/** A moment leads to its message or its revision. */
function Moment({ moment: m }: { moment: { text: string; message?: string; revision?: number } }) {
	if (m.message) {
		return (
			<To to="/messages/$id" params={{ id: m.message }} inherit>
				{m.text}
			</To>
		);
	}
	return <>{m.text}</>;
}

const some = (list: string[]) => (list.length >= 20 ? t`20 or more` : count(list.length));

function Figure({ label, value }: { label: string; value: string }) {
	return (
		<div className={`surface ${classes.figure}`}>
			<div className={classes.value}>{value}</div>
			<Text size="xs" c="dimmed">
				{label}
			</Text>
		</div>
	);
}

function Example({ snag: { evidence: e, title } }: { snag: Snag }) {
	return (
		<section className="surface" aria-labelledby="example">
			<Stack gap={8} p="sm">
				<Title order={2} size="h5" id="example">
					<Trans>An example</Trans>
				</Title>
				<Text size="sm">
					<Trans>
						<When time={e.at} />, from <span className="mono">{shown(e.sender)}</span> to{" "}
						<span className="mono">{e.recipient || "–"}</span>
					</Trans>
				</Text>
				<Reply reply={e.reply} />
				{e.verdict?.sure && (
					<Text size="sm">
						<Trans>
							Read as “{title}” ({e.verdict.sure}): {(e.verdict.evidence ?? []).join(", ")}.
						</Trans>
						{e.verdict.contradiction && <b> {e.verdict.contradiction}</b>}
					</Text>
				)}
				<Group gap="md">
					{e.message_id && (
						<To to="/messages/$id" params={{ id: e.message_id }} size="sm">
							<Trans>The message's path</Trans>
						</To>
					)}
					{e.session_id && (
						<To to="/sessions/$id" params={{ id: e.session_id }} size="sm">
							<Trans>The exact transcript</Trans>
						</To>
					)}
				</Group>
			</Stack>
		</section>
	);
}

/** How often it was met, by hour; hours without are gaps. */
function Hours({ snag }: { snag: Snag }) {
	const first = Math.max(Date.parse(snag.since), Date.now() - 7 * 86_400_000);
	const by = new Map((snag.hours ?? []).map((h) => [h.at.slice(0, 13), h.n]));
	const data = [];
	for (let at = Math.floor(first / 3_600_000) * 3_600_000; at <= Date.now(); at += 3_600_000) {
		const hour = new Date(at).toISOString();
		data.push({ hour: moment(hour, false).slice(5), met: by.get(hour.slice(0, 13)) ?? 0 });
	}
	return (
		<section className="surface" aria-labelledby="hours">
			<Title order={2} size="h5" id="hours" p="sm" pb={0}>
				<Trans>
					How often it was met{" "}
					<Text span size="xs" c="dimmed">
						<Trans>by hour, {zoneName(Date.now())}</Trans>
					</Text>
				</Trans>
			</Title>
			<Bars h={150} p="sm" data={data} dataKey="hour" series={[{ name: "met", color: "brass.5" }]} />
		</section>
	);
}

function Touched({ snag: s }: { snag: Snag }) {
	return (
		<section className="surface" aria-labelledby="touched">
			<Stack gap={6} p="sm">
				<Title order={2} size="h5" id="touched">
					<Trans>What it touches</Trans>
				</Title>
				<Text size="sm">
					<Trans>
						Senders: <span className="mono">{s.senders.join(", ") || "–"}</span>
					</Trans>
				</Text>
				<Text size="sm">
					<Trans>
						Recipients' domains: <span className="mono">{s.domains.join(", ") || "–"}</span>
					</Trans>
				</Text>
				{s.lanes.length > 0 && (
					<Group gap="md">
						{s.lanes.slice(0, 6).map((lane) => (
							<To key={lane} to="/queue/$lane" params={{ lane }} size="sm">
								<Trans>Lane {lane}</Trans>
							</To>
						))}
					</Group>
				)}
			</Stack>
		</section>
	);
}

function Parts({ id }: { id: string }) {
	const parts = useQuery({ queryKey: ["snags", "parts", id], queryFn: () => snags.list({ part_of: id }, "", 50) });
	return (
		<section className="surface" aria-labelledby="parts">
			<Title order={2} size="h5" id="parts" p="sm">
				<Trans>Where it shows</Trans>
			</Title>
			<SnagTable items={parts.data?.items ?? []} />
		</section>
	);
}

/** Who looks after it, what they note, and until when it is muted. */
function People({ snag: s }: { snag: Snag }) {
	const may = useMayWork();
	const client = useQueryClient();
	const [note, setNote] = useState<string | null>(null);
	const change = useMutation({
		mutationFn: (c: { note?: string; mine?: boolean; mute?: string }) => snags.change(s.id, c),
		onSuccess: () => {
			setNote(null);
			void client.invalidateQueries();
		},
		onError: (e) => notifications.show({ color: "buoy", title: t`Not changed`, message: e.message }),
	});
	return (
		<Stack gap={6} align="end" maw={420}>
			<Group gap="xs">
				{s.mine && (
					<Text size="sm" c="dimmed">
						<Trans>{s.mine} looks after it</Trans>
					</Text>
				)}
				{s.muted_until && (
					<Text size="sm" c="dimmed">
						<Trans>
							muted, ends <When time={s.muted_until} />
						</Trans>
					</Text>
				)}
				<Button size="xs" variant="default" disabled={!may} onClick={() => change.mutate({ mine: !s.mine })}>
					{s.mine ? t`Let go` : t`I look after it`}
				</Button>
				<Button
					size="xs"
					variant="default"
					disabled={!may}
					onClick={() => change.mutate({ mute: s.muted_until ? "" : "1d" })}
				>
					{s.muted_until ? t`Unmute` : t`Mute for a day`}
				</Button>
				<Button
					size="xs"
					variant="default"
					disabled={!may}
					onClick={() => setNote(note === null ? (s.note ?? "") : null)}
				>
					<Trans>Note</Trans>
				</Button>
			</Group>
			{note === null ? (
				s.note && (
					<Text size="sm">
						“{s.note}” <span className={classes.mine}>{s.note_by}</span>
					</Text>
				)
			) : (
				<Group gap="xs" align="end" wrap="nowrap">
					<Textarea
						size="xs"
						w={300}
						autosize
						aria-label={t`Note`}
						value={note}
						onChange={(e) => setNote(e.currentTarget.value)}
					/>
					<Button size="xs" onClick={() => change.mutate({ note })}>
						<Trans>Keep</Trans>
					</Button>
				</Group>
			)}
		</Stack>
	);
}

function saysWaiting(s: Snag): string {
	switch (helps(s)) {
		case "yes":
			return t`Waiting helps: ${s.usually ?? ""}`;
		case "not known":
			return t`Whether waiting helps is not known`;
		default:
			return t`Waiting does not help`;
	}
}
