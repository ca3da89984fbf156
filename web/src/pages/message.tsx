import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, CopyButton, Group, Stack, Table, Text, Title } from "@mantine/core";
import { IconCopy, IconDownload } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useParams, useSearch } from "@tanstack/react-router";
import { type GullEvent, gull, type LastReply, type Trace } from "../api/client";
import { messageEnded } from "../api/past";
import { snags } from "../api/snags";
import { Act, Actions } from "../parts/act";
import { ArchiveNote } from "../parts/archive";
import { Heading } from "../parts/heading";
import { useMay } from "../parts/may";
import { MessageView } from "../parts/message-view";
import { wordOf } from "../parts/names";
import { MessagePath } from "../parts/path";
import { Reply } from "../parts/reply";
import { helps } from "../parts/snag";
import { State } from "../parts/state";
import { Failed, Loading } from "../parts/states";
import { count, octets, shown, soft } from "../parts/text";
import { day, fine } from "../parts/time";
import { To } from "../parts/to";
import { exact, When } from "../parts/when";
import classes from "./message.module.css";

/** A message's whole path: as a picture, and as what happened in order. */
export function MessagePage() {
	const { id } = useParams({ from: "/messages/$id" });
	const { archive } = useSearch({ from: "/messages/$id" });
	const trace = useQuery({
		queryKey: ["trace", id, archive],
		queryFn: () => gull.trace(id, archive),
		meta: { past: (of: Trace) => archive !== undefined || messageEnded(of) },
	});
	if (!trace.data) {
		return trace.error ? <Failed error={trace.error} /> : <Loading what={t`the message's path`} />;
	}
	const found = trace.data;
	const waits =
		archive === undefined && found.message.deliveries.some((d) => ["deferred", "waiting", "held"].includes(d.state));
	return (
		<Stack gap="md">
			<ArchiveNote />
			<Head trace={found} waits={waits} />
			<MessagePath message={found.message} events={found.events} />
			<Causes trace={found} waits={waits} />
			<Beside trace={found} archive={archive} />
			<Story events={found.events} archive={archive} />
			{archive === undefined && <Content id={found.message.id} />}
		</Stack>
	);
}

function Head({ trace, waits }: { trace: Trace; waits: boolean }) {
	const m = trace.message;
	const may = useMay("content");
	return (
		<div>
			<Group justify="space-between" align="start" wrap="nowrap">
				<Heading>{m.subject || t`(no subject)`}</Heading>
				<Group gap="xs" wrap="nowrap">
					<Hand words={trace.for_user} label={t`Copy for the user`} />
					<Hand words={trace.for_remote} label={t`Copy for the remote administrator`} />
					{waits && <Act verb="flush" words={{ message: m.id }} label={t`Try now`} />}
					{waits && <Actions words={{ message: m.id }} what={t`More`} />}
					{may && (
						<Button
							size="xs"
							variant="default"
							component="a"
							href={`/api/v1/messages/${m.id}/content`}
							leftSection={<IconDownload size={14} />}
						>
							<Trans>.eml</Trans>
						</Button>
					)}
				</Group>
			</Group>
			<Text size="sm">
				<Trans>
					from <span className="mono">{shown(m.sender)}</span>, {octets(m.size)}, received <When time={m.received_at} />{" "}
					({exact(m.received_at)}), id <span className="mono">{m.id}</span>
				</Trans>
				{m.message_id_header && (
					<Trans>
						, Message-ID <span className="mono">{m.message_id_header}</span>
					</Trans>
				)}
			</Text>
		</div>
	);
}

/** Content is people's own: only the administrator may read it. */
function Content({ id }: { id: string }) {
	const may = useMay("content");
	return may ? <MessageView id={id} /> : null;
}

/** Words to hand on. */
function Hand({ words, label }: { words: string; label: string }) {
	return (
		<CopyButton value={words}>
			{({ copied, copy }) => (
				<Button size="xs" variant="default" leftSection={<IconCopy size={14} />} onClick={copy} title={words}>
					{copied ? t`Copied` : label}
				</Button>
			)}
		</CopyButton>
	);
}

/** What belongs to the message: sessions, what it generated or is about, mailboxes. */
function Beside({ trace: found, archive }: { trace: Trace; archive?: number }) {
	const message = (m: Trace["generated"][number], says: string) => (
		<Table.Tr key={m.id}>
			<Table.Td c="dimmed">{says}</Table.Td>
			<Table.Td>
				<To to="/messages/$id" params={{ id: m.id }} search={{ archive }} inherit>
					{m.subject || t`(no subject)`}
				</To>
			</Table.Td>
			<Table.Td className="mono">{m.deliveries.map((d) => soft(d.recipient)).join(", ")}</Table.Td>
			<Table.Td>{m.deliveries[0] && <State state={m.deliveries[0].state} />}</Table.Td>
			<Table.Td>
				<When time={m.received_at} />
			</Table.Td>
		</Table.Tr>
	);
	const session = (s: Trace["sessions"][number], says: string) => (
		<Table.Tr key={s.id}>
			<Table.Td c="dimmed">{says}</Table.Td>
			<Table.Td>
				<To to="/sessions/$id" params={{ id: s.id }} search={{ archive }} inherit>
					<Trans>
						Transcript with {s.name || s.address} [{s.address}]
					</Trans>
				</To>
			</Table.Td>
			<Table.Td>{s.tls || t`without TLS`}</Table.Td>
			<Table.Td>
				<State state={s.outcome} />
			</Table.Td>
			<Table.Td>
				<When time={s.started_at} />
			</Table.Td>
		</Table.Tr>
	);
	const rows = [
		found.session && session(found.session, t`received in session`),
		found.message.gates && (
			<Table.Tr key="gates">
				<Table.Td c="dimmed">
					<Trans>gates it met</Trans>
				</Table.Td>
				<Table.Td colSpan={2}>
					{found.message.gates.map((g, i) => (
						<span key={g}>
							{i > 0 && ", "}
							<To to="/trace" search={{ gate: g }} inherit>
								{g}
							</To>
						</span>
					))}
				</Table.Td>
				<Table.Td colSpan={2}>{found.message.severity ? t`severity ${wordOf(found.message.severity)}` : ""}</Table.Td>
			</Table.Tr>
		),
		found.message.identity && <From key="from" found={found.message.identity} />,
		...found.sessions.map((s) => session(s, t`attempt in session`)),
		found.about &&
			message(found.about, t`this is a ${found.message.protocol === "reply" ? t`reply to` : t`notice about`}`),
		...found.generated.map((m) =>
			message(
				m,
				m.direction === "own"
					? m.protocol === "reply"
						? t`answered by itself`
						: t`notice to the sender`
					: t`a notice from elsewhere`,
			),
		),
		...found.mailboxes.map((b) => (
			<Table.Tr key={b.address}>
				<Table.Td c="dimmed">
					<Trans>mailbox</Trans>
				</Table.Td>
				<Table.Td className="mono">{soft(b.address)}</Table.Td>
				<Table.Td colSpan={3}>
					<Trans>
						{b.messages} messages, {octets(b.used)}
					</Trans>
					{b.quota > 0 && t` of ${octets(b.quota)} (${Math.round((b.used * 100) / b.quota)} %)`}
				</Table.Td>
			</Table.Tr>
		)),
	].filter(Boolean);
	if (rows.length === 0) {
		return null;
	}
	return (
		<section className="surface" aria-labelledby="beside">
			<Title order={2} size="h5" id="beside" p="sm" pb={4}>
				<Trans>What belongs to it</Trans>
			</Title>
			<Table.ScrollContainer minWidth={640}>
				<Table verticalSpacing={3} horizontalSpacing="sm">
					<Table.Tbody>{rows}</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
		</section>
	);
}

/** Who the message is from, as far as it proves that. */
function From({ found: f }: { found: NonNullable<Trace["message"]["identity"]> }) {
	const signatures = f.dkim ?? [];
	return (
		<Table.Tr>
			<Table.Td c="dimmed">
				<Trans>who it is from</Trans>
			</Table.Td>
			<Table.Td>
				<Trans>
					SPF {f.spf.result}, DKIM {signatures.length === 0 ? t`none` : signatures.map((s) => s.result).join(", ")},
					DMARC {f.dmarc.result}
					{f.dmarc.policy ? t` (the domain asks for ${f.dmarc.policy})` : ""}
				</Trans>
			</Table.Td>
			<Table.Td className="mono">{soft(f.dmarc.domain)}</Table.Td>
			<Table.Td colSpan={2}>
				{f.reason || f.dmarc.why}
				{signatures.map((s) => (
					<Text key={s.domain + s.selector} size="xs" c="dimmed">
						{s.domain} ({s.selector}, {s.algorithm}): {s.result}
						{s.why ? `, ${s.why}` : ""}
					</Text>
				))}
				{f.arc && (
					<Text size="xs" c="dimmed">
						<Trans>
							sealed results (ARC) {f.arc.result}: {f.arc.links.map((l) => l.domain).join(", ")}
						</Trans>
						{f.arc.why ? `, ${f.arc.why}` : ""}
					</Text>
				)}
			</Table.Td>
		</Table.Tr>
	);
}

const saysWaiting = {
	yes: t`Waiting usually helps. `,
	no: t`Waiting does not help. `,
	"not known": t`Whether waiting helps is not known. `,
};

/** Causes say what the trouble means, who can fix it, and how. */
function Causes({ trace, waits }: { trace: Trace; waits: boolean }) {
	return trace.causes.map((c) => (
		<section className={classes.cause} key={c.cause}>
			<Text fw={600}>{c.title}</Text>
			<Text size="sm">{c.means}</Text>
			<Text size="sm">
				{c.fix} {waits && saysWaiting[helps(c)]}
				<Trans>Who can fix it: {c.who_can_fix.replace("-", " ")}.</Trans>
			</Text>
			{c.contradiction && <Text size="sm">{c.contradiction}</Text>}
			<Group gap="md">
				{waits && (
					<To
						to="/probe"
						search={{ target: trace.message.deliveries.find((d) => d.cause === c.cause)?.recipient }}
						size="sm"
					>
						<Trans>Probe the path</Trans>
					</To>
				)}
				<SnagOf cause={c.cause} trace={trace} />
			</Group>
		</section>
	));
}

/** The snag that this cause is part of, with all messages that it holds up. */
function SnagOf({ cause, trace }: { cause: string; trace: Trace }) {
	const mine = trace.message.deliveries.filter((d) => d.cause === cause);
	const lane = mine[0]?.lane;
	const found = useQuery({
		queryKey: ["snags", "of", cause, lane],
		queryFn: () => snags.list({ cause, lane, muted: true }, "", 20),
		enabled: lane !== undefined,
	});
	const snag = found.data?.items.find(
		(s) => s.place.kind !== "address" || mine.some((d) => d.recipient.toLowerCase() === s.place.name),
	);
	if (!snag) {
		return null;
	}
	return (
		<To to="/snags/$id" params={{ id: snag.id }} size="sm" fw={600}>
			{snag.waiting + snag.failed > 1
				? t`One of ${count(snag.waiting + snag.failed)} messages: fix it at the snag`
				: t`Fix it at the snag`}
		</To>
	);
}

function Story({ events, archive }: { events: GullEvent[]; archive?: number }) {
	return (
		<section className="surface" aria-labelledby="story">
			<Title order={2} size="h5" id="story" p="sm">
				<Trans>What happened</Trans>
			</Title>
			<Table.ScrollContainer minWidth={640}>
				<Table verticalSpacing={5} horizontalSpacing="sm">
					<Table.Tbody>
						{events.map((e) => (
							<Table.Tr key={`${e.at} ${e.kind} ${e.delivery_id ?? ""}`} style={{ verticalAlign: "top" }}>
								<Table.Td w={190} className="mono" c="dimmed">
									{day(e.at)} {fine(e.at)}
								</Table.Td>
								<Table.Td w={40}>{e.delivery_id ? `#${e.delivery_id.split("-")[1]}` : ""}</Table.Td>
								<Table.Td w={100} fw={600}>
									{e.kind}
								</Table.Td>
								<Table.Td>
									<EventText event={e} archive={archive} />
								</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
		</section>
	);
}

function EventText({ event, archive }: { event: GullEvent; archive?: number }) {
	const detail = event.detail as Record<string, unknown> | null;
	const reply = detail?.reply as LastReply | undefined;
	if (!reply) {
		return <span style={{ overflowWrap: "anywhere" }}>{event.text}</span>;
	}
	return (
		<Stack gap={4}>
			<Text size="sm">
				<Trans>attempt {String(detail?.attempt ?? "")}</Trans>
				{typeof detail?.next_attempt_at === "string" && (
					<Trans>
						, next <When time={detail.next_attempt_at} />
					</Trans>
				)}
			</Text>
			<Reply reply={reply} />
			{reply.written?.map((told) => (
				<Text size="sm" key={told}>
					<Trans>as agreed: {told}</Trans>
				</Text>
			))}
			{reply.session_id && (
				<To to="/sessions/$id" params={{ id: reply.session_id }} search={{ archive }} size="xs">
					<Trans>read the transcript</Trans>
				</To>
			)}
		</Stack>
	);
}
