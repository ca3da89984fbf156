import "@mantine/core/styles/ColorSwatch.layer.css";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Breadcrumbs, ColorSwatch, Group, SimpleGrid, Stack, Table, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { type LaneDetail, type QueueWords, queue } from "../api/queue";
import { Act } from "../parts/act";
import { Attempts } from "../parts/attempts";
import { Areas } from "../parts/drawn";
import { WhyStranded } from "../parts/fix";
import { Heading } from "../parts/heading";
import { Messages } from "../parts/messages";
import { PauseButton } from "../parts/pause";
import { Reply } from "../parts/reply";
import { State } from "../parts/state";
import { Failed, Loading } from "../parts/states";
import { count, octets } from "../parts/text";
import { clock } from "../parts/time";
import { To } from "../parts/to";
import { span, When } from "../parts/when";

/** One lane: how it does, its last hour, and the messages that wait in it. */
export function LanePage() {
	const { lane: id } = useParams({ from: "/queue/$lane" });
	const words = useSearch({ from: "/queue/$lane" });
	const navigate = useNavigate();
	const lane = useQuery({ queryKey: ["lane", id], queryFn: () => queue.lane(id) });
	if (!lane.data) {
		return lane.error ? <Failed error={lane.error} /> : <Loading what={t`the lane`} />;
	}
	const l = lane.data;
	const all = l.waiting + l.deferred + l.held;
	return (
		<Stack gap="sm">
			<Breadcrumbs>
				<To to="/queue" size="sm">
					<Trans>Queue</Trans>
				</To>
				<Text size="sm">{l.next_hop}</Text>
			</Breadcrumbs>
			<Group justify="space-between" align="start">
				<Heading>
					{l.next_hop}{" "}
					<Text span c="dimmed" size="sm">
						<Trans>by route {l.route}</Trans>
					</Text>
				</Heading>
				<Group gap="xs">
					<Act verb="flush" words={{ lane: id }} label={t`Try these now`} />
					<PauseButton kind="lane" name={id} what={t`lane`} paused={l.pause?.kind === "lane"} />
					{l.route !== "no-route" && l.route !== "detour" && (
						<PauseButton kind="route" name={l.route} what={t`route`} paused={l.pause?.kind === "route"} />
					)}
				</Group>
			</Group>
			<Facts lane={l} all={all} />
			<Attempts lane={l} />
			<Messages
				words={words}
				fixed={{ lane: id }}
				onWords={(w: QueueWords) =>
					void navigate({ to: "/queue/$lane", params: { lane: id }, search: w, replace: true })
				}
			/>
		</Stack>
	);
}

function Facts({ lane: l, all }: { lane: LaneDetail; all: number }) {
	return (
		<SimpleGrid cols={{ base: 1, md: 3 }} spacing="sm">
			<section className="surface" style={{ padding: 12 }} aria-label={t`State`}>
				<Text size="sm" mb={4}>
					<State state={l.state} />{" "}
					{l.since && (
						<Text span c="dimmed" inherit>
							<Trans>
								since <When time={l.since} />
							</Trans>
						</Text>
					)}
				</Text>
				{l.state === "stranded" ? <WhyStranded lane={l} /> : l.why && <Text size="sm">{l.why}</Text>}
				<Table verticalSpacing={2} horizontalSpacing={0} withRowBorders={false} mt={4}>
					<Table.Tbody>
						<Row name="Messages">
							{count(all)}, {octets(l.bytes)}
						</Row>
						<Row name="of them">
							<Trans>
								{count(l.waiting)} waiting, {count(l.deferred)} deferred, {count(l.held)} held
							</Trans>
						</Row>
						<Row name="Connections">
							<Trans>
								{count(l.connections)} open, at most {count(l.connection_limit)} now
							</Trans>
						</Row>
						<Row name="Next attempt">
							{l.state === "paused" ? t`when it goes on` : <When due time={l.until ?? l.next_attempt_at} />}
							{l.state === "paused" && l.until && (
								<>
									, <When time={l.until} />
								</>
							)}
						</Row>
						<Row name="Oldest">
							<Trans>
								<When time={l.oldest_at} />, expires <When time={l.expires_at} />
							</Trans>
						</Row>
						<Row name="Schedule">
							<Trans>
								delay notice after {l.schedule.warn_after ? span(l.schedule.warn_after) : t`never`}, expires after{" "}
								{span(l.schedule.expire_after)}
							</Trans>
						</Row>
					</Table.Tbody>
				</Table>
			</section>
			<section className="surface" style={{ padding: 12 }} aria-label={t`The last hour`}>
				<Flow lane={l} />
				<Ages lane={l} all={all} />
			</section>
			<section className="surface" style={{ padding: 12 }} aria-label={t`Last reply`}>
				<Text size="sm" fw={600} mb={4}>
					<Trans>Last reply that kept messages waiting</Trans>{" "}
					{l.last_reply_at && (
						<Text span c="dimmed" inherit fw={400}>
							<When time={l.last_reply_at} />
						</Text>
					)}
				</Text>
				{l.last_reply ? (
					<Reply reply={l.last_reply} />
				) : (
					<Text size="sm" c="dimmed">
						<Trans>None so far.</Trans>
					</Text>
				)}
			</section>
		</SimpleGrid>
	);
}

function Row({ name, children }: { name: string; children: React.ReactNode }) {
	return (
		<Table.Tr>
			<Table.Td w={100} c="dimmed">
				{name}
			</Table.Td>
			<Table.Td>{children}</Table.Td>
		</Table.Tr>
	);
}

/** Flow draws what came into the lane and left it, minute by minute. */
function Flow({ lane }: { lane: LaneDetail }) {
	const at = new Map(lane.minutes.map((m) => [m.at.slice(0, 16), m]));
	const end = Math.floor(Date.now() / 60_000) * 60_000;
	const data = Array.from({ length: 60 }, (_, i) => {
		const time = new Date(end - (59 - i) * 60_000).toISOString().slice(0, 16);
		const m = at.get(time);
		return {
			time: clock(`${time}:00Z`, false),
			received: m?.received ?? 0,
			left: m?.finished ?? 0,
			deferred: m?.failed ?? 0,
		};
	});
	const sum = (k: "received" | "left" | "deferred") => data.reduce((n, d) => n + d[k], 0);
	return (
		<>
			<Text size="sm" mb={4}>
				<b>
					<Trans>Last hour</Trans>
				</b>{" "}
				<Key color="kelp-6" /> <Trans>{count(sum("received"))} received</Trans> <Key color="blue-6" />{" "}
				<Trans>{count(sum("left"))} left</Trans> <Key color="brass-5" />{" "}
				<Trans>{count(sum("deferred"))} attempts deferred</Trans>
			</Text>
			<div role="img" aria-label={t`Messages a minute`}>
				<Areas
					h={110}
					data={data}
					dataKey="time"
					withDots={false}
					curveType="step"
					gridAxis="none"
					xAxisProps={{ interval: 14 }}
					yAxisProps={{ width: 34, allowDecimals: false }}
					series={[
						{ name: "received", color: "kelp.6" },
						{ name: "left", color: "blue.6" },
						{ name: "deferred", color: "brass.5" },
					]}
				/>
			</div>
		</>
	);
}

function Key({ color }: { color: string }) {
	return <ColorSwatch component="span" size={9} color={`var(--mantine-color-${color})`} display="inline-block" />;
}

/** Ages draws how long its messages have been here. */
function Ages({ lane, all }: { lane: LaneDetail; all: number }) {
	const most = Math.max(1, ...lane.ages.map((a) => a.messages));
	if (all === 0) {
		return null;
	}
	return (
		<table aria-label={t`Messages by age`} style={{ width: "100%", marginTop: 6, fontSize: 12 }}>
			<tbody>
				{lane.ages
					.filter((a) => a.messages > 0)
					.map((a) => (
						<tr key={a.from}>
							<td style={{ width: 76, whiteSpace: "nowrap" }}>
								{a.to ? t`up to ${span(a.to)}` : t`over ${span(a.from)}`}
							</td>
							<td>
								<div
									style={{
										background: "var(--mantine-primary-color-filled)",
										height: 8,
										width: `${(a.messages / most) * 100}%`,
									}}
								/>
							</td>
							<td style={{ width: 64, textAlign: "right" }}>
								{count(a.messages)}
								{a.more && "+"}
							</td>
						</tr>
					))}
			</tbody>
		</table>
	);
}
