import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Group, SimpleGrid, Stack, Table, Text, Title } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { gull, type Lane, type Status } from "../api/client";
import { queue } from "../api/queue";
import { snags } from "../api/snags";
import { HazardList, isTrouble } from "../parts/draft-bar";
import { WhyStranded } from "../parts/fix";
import { FlowChart } from "../parts/flow";
import { Heading } from "../parts/heading";
import { ReplyLine } from "../parts/reply";
import { SnagTable } from "../parts/snag";
import { State, worstOf } from "../parts/state";
import { Failed, Loading, Nothing } from "../parts/states";
import { count, octets, plural, shown } from "../parts/text";
import { clock, zoneName } from "../parts/time";
import { To } from "../parts/to";
import { WhyVerdict } from "../parts/verdict";
import { When } from "../parts/when";
import classes from "./overview.module.css";

/** What is in trouble now, what waits, what flows: in this order. */
export function OverviewPage() {
	const status = useQuery({ queryKey: ["status"], queryFn: gull.status });
	if (!status.data) {
		return status.error ? <Failed error={status.error} /> : <Loading what={t`the overview`} />;
	}
	return (
		<Stack gap="md">
			<Verdict status={status.data} />
			<Notes status={status.data} />
			<Numbers status={status.data} />
			<Wrong />
			<Trouble lanes={status.data.trouble} />
			<SimpleGrid cols={{ base: 1, md: 2 }}>
				<Flow status={status.data} />
				<Recent />
				{status.data.held > 0 && <Held all={status.data.held} />}
				<Upkeep />
			</SimpleGrid>
			<Listeners status={status.data} />
		</Stack>
	);
}

/** Verdict is the one sentence that matters. */
function Verdict({ status }: { status: Status }) {
	const stuck = status.resting + status.stranded + status.paused;
	const tone =
		status.domains === 0 || status.stranded > 0 || status.stopped
			? "trouble"
			: stuck > 0 || status.deferred > 0
				? "waits"
				: "moves";
	const worst = status.trouble[0];
	return (
		<section className={classes.verdict} data-tone={tone} aria-live="polite">
			<Heading>{verdict(status)}</Heading>
			<Text size="sm">
				{status.stopped ? (
					status.stopped
				) : status.domains === 0 ? (
					<To to="/setup" inherit fw={600}>
						<Trans>Set it up in seven steps</Trans>
					</To>
				) : status.verdict.title && worst && status.stranded === 0 ? (
					<>
						<Trans>
							{status.verdict.next} Look first at{" "}
							<To to="/queue/$lane" params={{ lane: worst.id }} inherit fw={600}>
								{worst.next_hop}
							</To>
							.
						</Trans>
						<WhyVerdict why={status.verdict.why} />
					</>
				) : worst && tone !== "moves" ? (
					<>
						<Trans>
							Look first at{" "}
							<To to="/queue/$lane" params={{ lane: worst.id }} inherit fw={600}>
								{worst.next_hop}
							</To>
							: {plural(worst.waiting + worst.deferred, t`delivery`, t`deliveries`)},
						</Trans>{" "}
						{worst.state === "stranded" ? <WhyStranded lane={worst} /> : <ReplyLine reply={worst.last_reply} />}
					</>
				) : (
					t`Nothing needs you.`
				)}
			</Text>
		</section>
	);
}

/** Notes are what is not dangerous and still worth knowing of the set-up. */
function Notes({ status }: { status: Status }) {
	const notes = (status.hazards ?? []).filter((h) => !isTrouble(h));
	if (notes.length === 0 || status.domains === 0) {
		return null;
	}
	return (
		<Alert color="brass" title={t`Worth fixing`}>
			<HazardList hazards={notes} />
		</Alert>
	);
}

function verdict(s: Status): string {
	if (s.stopped) {
		return t`No mail leaves`;
	}
	if (s.domains === 0) {
		return t`No domain is set up yet, so no mail is taken`;
	}
	if (s.stranded > 0) {
		return t`${plural(s.stranded, t`lane is`, t`lanes are`)} stranded: no route leads on`;
	}
	if (s.verdict.title) {
		return s.verdict.title;
	}
	if (s.resting > 0) {
		return t`${plural(s.resting, t`lane rests`, t`lanes rest`)} because the host cannot be reached`;
	}
	if (s.paused > 0) {
		return t`${plural(s.paused, t`lane is`, t`lanes are`)} paused by somebody`;
	}
	if (s.deferred > 0) {
		return t`Mail moves; ${plural(s.deferred, t`delivery waits`, t`deliveries wait`)} for another attempt`;
	}
	return t`Mail moves`;
}

function Numbers({ status }: { status: Status }) {
	return (
		<SimpleGrid cols={{ base: 2, sm: 4, lg: 8 }} spacing="xs">
			<Figure label={t`waiting`} value={status.waiting} />
			<Figure label={t`deferred`} value={status.deferred} tone={status.deferred > 0 ? "waits" : undefined} />
			<Figure label={t`held`} value={status.held} />
			<Figure label={t`sending now`} value={status.sending} />
			<Figure label={t`received, 24 h`} value={status.today.received ?? 0} />
			<Figure label={t`delivered, 24 h`} value={status.today.delivered ?? 0} />
			<Figure
				label={t`bounced, 24 h`}
				value={(status.today.bounced ?? 0) + (status.today.expired ?? 0)}
				tone={status.today.bounced ? "trouble" : undefined}
			/>
			<Figure label={t`rejected, 24 h`} value={status.today.rejected ?? 0} />
		</SimpleGrid>
	);
}

function Figure({ label, value, tone }: { label: string; value: number; tone?: string }) {
	return (
		<div className={`surface ${classes.figure}`} data-tone={tone}>
			<div className={classes.value}>{count(value)}</div>
			<Text size="xs" c="dimmed">
				{label}
			</Text>
		</div>
	);
}

/** The worst snags: what is wrong, and what to do about it. */
function Wrong() {
	const worst = useQuery({
		queryKey: ["snags", "worst"],
		queryFn: () => snags.list({}, "", 6),
	});
	if (!worst.data) {
		// Its place is kept: what stands below must not go away under the pointer.
		return <section className="surface" aria-busy="true" aria-label={t`What is wrong`} style={{ minHeight: 380 }} />;
	}
	return (
		<section className="surface" aria-labelledby="wrong">
			<Group justify="space-between" p="sm" pb={4}>
				<Title order={2} size="h5" id="wrong">
					<Trans>What is wrong</Trans>
				</Title>
				<To to="/snags" search={{}} size="sm">
					<Trans>all snags</Trans>
				</To>
			</Group>
			{worst.data.items.length === 0 ? (
				<Nothing title={t`Nothing is in trouble`}>
					<Trans>What fails shows here by itself, with what to do about it.</Trans>
				</Nothing>
			) : (
				<SnagTable items={worst.data.items} />
			)}
		</section>
	);
}

function Trouble({ lanes }: { lanes: Lane[] }) {
	return (
		<section className="surface" aria-labelledby="trouble">
			<Title order={2} size="h5" id="trouble" p="sm">
				<Trans>In trouble</Trans>
			</Title>
			{lanes.length === 0 ? (
				<Nothing title={t`Nothing is in trouble`}>
					<Trans>Every lane with mail in it moves.</Trans>
				</Nothing>
			) : (
				<Table.ScrollContainer minWidth={900}>
					<Table verticalSpacing={6} horizontalSpacing="sm">
						<Table.Thead>
							<Table.Tr>
								<Table.Th>
									<Trans>Next hop</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>State</Trans>
								</Table.Th>
								<Table.Th ta="right">
									<Trans>Waits</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>Oldest</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>Next attempt</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>Expires</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>Last reply</Trans>
								</Table.Th>
							</Table.Tr>
						</Table.Thead>
						<Table.Tbody>
							{lanes.map((l) => (
								<Table.Tr key={l.id}>
									<Table.Td>
										<To to="/queue/$lane" params={{ lane: l.id }} inherit>
											{l.next_hop}
										</To>
									</Table.Td>
									<Table.Td>
										<State state={l.state} />
									</Table.Td>
									<Table.Td ta="right">{count(l.waiting + l.deferred + l.held)}</Table.Td>
									<Table.Td>
										<When time={l.oldest_at} />
									</Table.Td>
									<Table.Td>
										<When due time={l.next_attempt_at} />
									</Table.Td>
									<Table.Td>
										<When time={l.expires_at} />
									</Table.Td>
									<Table.Td>
										{l.state === "stranded" ? (
											<WhyStranded lane={l} />
										) : l.state === "paused" ? (
											l.why
										) : (
											<ReplyLine reply={l.last_reply} />
										)}
									</Table.Td>
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				</Table.ScrollContainer>
			)}
		</section>
	);
}

/** Flow draws the counts of the last 24 hours; hours without mail are gaps. */
function Flow({ status }: { status: Status }) {
	const names = ["delivered", "deferred", "bounced"];
	const now = Math.floor(Date.now() / hourLong) * hourLong;
	const bars = Array.from({ length: 24 }, (_, i) => {
		const at = now - (23 - i) * hourLong;
		const of = (kind: string) => status.hours.find((h) => h.kind === kind && Date.parse(h.hour) === at)?.n ?? 0;
		return { label: clock(at, false), parts: names.map(of) };
	});
	return (
		<section className="surface" aria-labelledby="flow">
			<Title order={2} size="h5" id="flow" p="sm" pb={4}>
				<Trans>
					What flows{" "}
					<Text span size="xs" c="dimmed">
						<Trans>deliveries an hour, {zoneName(now)}</Trans>
					</Text>
				</Trans>
			</Title>
			<FlowChart bars={bars} names={names} every={3} />
		</section>
	);
}

const hourLong = 3_600_000;

function Recent() {
	const recent = useQuery({ queryKey: ["recent"], queryFn: () => gull.find({}, "", 9) });
	return (
		<section className="surface" aria-labelledby="recent">
			<Group justify="space-between" p="sm" pb={4}>
				<Title order={2} size="h5" id="recent">
					<Trans>Just now</Trans>
				</Title>
				<To to="/trace" size="sm">
					<Trans>all messages</Trans>
				</To>
			</Group>
			<Table horizontalSpacing="sm" verticalSpacing={3} layout="fixed">
				<Table.Tbody>
					{(recent.data?.items ?? []).map((m) => (
						<Table.Tr key={m.id}>
							<Table.Td w={70} c="dimmed">
								<When time={m.received_at} />
							</Table.Td>
							<Table.Td className={classes.clip}>
								<To to="/messages/$id" params={{ id: m.id }} inherit title={m.subject}>
									{m.subject || t`(no subject)`}
								</To>
							</Table.Td>
							<Table.Td className={classes.clip} title={m.deliveries.map((d) => d.recipient).join(", ")}>
								{m.deliveries.length > 1 && `${m.deliveries.length}: `}
								{m.deliveries[0] ? shown(m.deliveries[0].recipient) : "–"}
							</Table.Td>
							<Table.Td w={104}>
								{m.deliveries[0] && <State state={worstOf(m.deliveries) ?? m.deliveries[0].state} />}
							</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
			{recent.data?.items.length === 0 && (
				<Nothing title={t`No mail yet`}>
					<Trans>Send a test message with: gull send --to …</Trans>
				</Nothing>
			)}
		</section>
	);
}

/** What is held, the longest first: it waits for a person. */
function Held({ all }: { all: number }) {
	const held = useQuery({ queryKey: ["messages", "held"], queryFn: () => queue.messages({ state: "held" }, "", 5) });
	return (
		<section className="surface" aria-labelledby="held">
			<Group justify="space-between" p="sm" pb={4}>
				<Title order={2} size="h5" id="held">
					<Trans>
						Held{" "}
						<Text span size="xs" c="dimmed">
							<Trans>{count(all)}, until somebody releases or drops them</Trans>
						</Text>
					</Trans>
				</Title>
				<To to="/held" size="sm">
					<Trans>all that are held</Trans>
				</To>
			</Group>
			<Table horizontalSpacing="sm" verticalSpacing={3} layout="fixed">
				<Table.Tbody>
					{(held.data?.items ?? []).map((d) => (
						<Table.Tr key={d.delivery.id}>
							<Table.Td w={90} c="dimmed">
								<When time={d.received_at} />
							</Table.Td>
							<Table.Td className={classes.clip}>
								<To to="/messages/$id" params={{ id: d.delivery.id.split("-")[0] ?? "" }} inherit title={d.subject}>
									{d.subject || t`(no subject)`}
								</To>
							</Table.Td>
							<Table.Td className={classes.clip} title={d.delivery.recipient}>
								{shown(d.delivery.recipient)}
							</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
		</section>
	);
}

/** What ends or fills up by itself: what needs somebody first, else what comes next. */
function Upkeep() {
	const upkeep = useQuery({ queryKey: ["upkeep"], queryFn: gull.upkeep });
	if (!upkeep.data) {
		return null;
	}
	const { endings, rooms } = upkeep.data;
	const soon = endings.filter((e) => e.soon);
	return (
		<section className="surface" aria-labelledby="upkeep">
			<Title order={2} size="h5" id="upkeep" p="sm" pb={4}>
				<Trans>
					Ends and room{" "}
					<Text span size="xs" c="dimmed">
						{soon.length > 0 ? plural(soon.length, t`needs somebody now`, t`need somebody now`) : t`nothing ends soon`}
					</Text>
				</Trans>
			</Title>
			<Table horizontalSpacing="sm" verticalSpacing={3}>
				<Table.Tbody>
					{(soon.length > 0 ? soon : endings.slice(0, 3)).map((e) => (
						<Table.Tr key={`${e.kind} ${e.what}`}>
							<Table.Td>
								{e.kind === "certificate" ? t`Certificate of` : t`Signing key of`} {e.what}
								{(e.soon || e.note) && (
									<Text size="xs" c={e.soon ? "var(--gull-trouble)" : "dimmed"}>
										{e.note && `${e.note}; `}
										{e.fix}
									</Text>
								)}
							</Table.Td>
							<Table.Td ta="right">
								{e.kind === "certificate" ? t`ends ` : t`a year old `}
								<When time={e.until} />
							</Table.Td>
						</Table.Tr>
					))}
					{rooms.map((r) => (
						<Table.Tr key={r.what}>
							<Table.Td>
								<Trans>Room of {r.what}</Trans>
								{r.used !== undefined && (
									<meter
										className={classes.meter}
										min={0}
										max={1}
										high={0.9}
										value={r.used}
										aria-label={t`${Math.round(r.used * 100)} % of the disk is used`}
									/>
								)}
							</Table.Td>
							<Table.Td ta="right">
								{octets(r.size)}
								{r.free !== undefined && t`, ${octets(r.free)} left`}
								{r.per_day !== undefined && r.per_day > 0 && (
									<Text size="xs" c={r.soon ? "var(--gull-trouble)" : "dimmed"}>
										{r.full_days ? t`full in ${r.full_days} days, ` : ""}
										{t`grows by ${octets(r.per_day)} a day`}
									</Text>
								)}
							</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
		</section>
	);
}

function Listeners({ status }: { status: Status }) {
	return (
		<Text size="xs" c="dimmed">
			<Trans>
				{status.host_name}, node {status.node}, configuration revision {status.revision}, up since{" "}
				<When time={status.started_at} />. Listening:{" "}
				{status.listeners
					.map((l) =>
						l.address
							? `${l.name} at ${l.address} (${plural(l.sessions, t`session`, t`sessions`)})`
							: `${l.name} is NOT open`,
					)
					.join(", ")}
				.
			</Trans>
		</Text>
	);
}
