import { Anchor, Button, Group, Stack, Table, Text, Title } from "@mantine/core";
import { IconDownload } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { type GullEvent, gull, type LastReply, type Trace } from "../api/client";
import { Act, Actions } from "../parts/act";
import { LetterView } from "../parts/letter-view";
import { Reply } from "../parts/reply";
import { Failed, Loading } from "../parts/states";
import { octets, shown } from "../parts/text";
import { Way } from "../parts/way";
import { exact, When } from "../parts/when";
import classes from "./message.module.css";

/** A letter's whole way: as a picture, and as what happened in order. */
export function MessagePage() {
	const { id } = useParams({ from: "/messages/$id" });
	const trace = useQuery({ queryKey: ["trace", id], queryFn: () => gull.trace(id) });
	if (!trace.data) {
		return trace.error ? <Failed error={trace.error} /> : <Loading what="the letter's way" />;
	}
	const t = trace.data;
	const waits = t.message.deliveries.some((d) => ["deferred", "waiting", "held"].includes(d.state));
	return (
		<Stack gap="md">
			<Head trace={t} waits={waits} />
			<Way message={t.message} />
			<Causes trace={t} waits={waits} />
			<Story events={t.events} />
			<Content id={t.message.id} />
		</Stack>
	);
}

function Head({ trace, waits }: { trace: Trace; waits: boolean }) {
	const m = trace.message;
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	return (
		<div>
			<Group justify="space-between" align="start" wrap="nowrap">
				<Title order={1} size="h3">
					{m.subject || "(no subject)"}
				</Title>
				<Group gap="xs" wrap="nowrap">
					{waits && <Act verb="flush" words={{ message: m.id }} label="Try now" />}
					{waits && <Actions words={{ message: m.id }} what="More" />}
					{me.data?.role === "administrator" && (
						<Button
							size="xs"
							variant="default"
							component="a"
							href={`/api/v1/messages/${m.id}/content`}
							leftSection={<IconDownload size={14} />}
						>
							.eml
						</Button>
					)}
				</Group>
			</Group>
			<Text size="sm">
				from <span className="mono">{shown(m.sender)}</span>, {octets(m.size)}, came <When time={m.received_at} /> (
				{exact(m.received_at)}), id <span className="mono">{m.id}</span>
				{m.message_id_header && (
					<>
						, Message-ID <span className="mono">{m.message_id_header}</span>
					</>
				)}
			</Text>
			<Links trace={trace} />
		</div>
	);
}

/** Content is people's own: only the administrator may read it. */
function Content({ id }: { id: string }) {
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	return me.data?.role === "administrator" ? <LetterView id={id} /> : null;
}

function Links({ trace }: { trace: Trace }) {
	const about = trace.message.notice_of;
	return (
		<>
			{about && (
				<Text size="sm">
					This is a notice about{" "}
					<Anchor component={Link} to="/messages/$id" params={{ id: about } as never} inherit className="mono">
						{about}
					</Anchor>
					.
				</Text>
			)}
			{trace.notices.map((n) => (
				<Text size="sm" key={n}>
					The sender was told by the notice{" "}
					<Anchor component={Link} to="/messages/$id" params={{ id: n } as never} inherit className="mono">
						{n}
					</Anchor>
					.
				</Text>
			))}
		</>
	);
}

/** Causes say what the trouble means, who can mend it, and how. */
function Causes({ trace, waits }: { trace: Trace; waits: boolean }) {
	return trace.causes.map((c) => (
		<section className={classes.cause} key={c.cause}>
			<Text fw={600}>{c.title}</Text>
			<Text size="sm">
				{c.mend} {waits && (c.waiting_helps ? "Waiting usually helps. " : "Waiting does not help. ")}Who can mend it:{" "}
				{c.who_can_mend.replace("-", " ")}.
			</Text>
		</section>
	));
}

function Story({ events }: { events: GullEvent[] }) {
	return (
		<section className="surface" aria-labelledby="story">
			<Title order={2} size="h5" id="story" p="sm">
				What happened
			</Title>
			<Table.ScrollContainer minWidth={640}>
				<Table verticalSpacing={5} horizontalSpacing="sm">
					<Table.Tbody>
						{events.map((e) => (
							<Table.Tr key={`${e.at} ${e.kind} ${e.delivery_id ?? ""}`} style={{ verticalAlign: "top" }}>
								<Table.Td w={190} className="mono" c="dimmed">
									{e.at.slice(0, 10)} {e.at.slice(11, 23)}
								</Table.Td>
								<Table.Td w={40}>{e.delivery_id ? `#${e.delivery_id.split("-")[1]}` : ""}</Table.Td>
								<Table.Td w={100} fw={600}>
									{e.kind}
								</Table.Td>
								<Table.Td>
									<EventText event={e} />
								</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
		</section>
	);
}

function EventText({ event }: { event: GullEvent }) {
	const detail = event.detail as Record<string, unknown> | null;
	const reply = detail?.reply as LastReply | undefined;
	if (!reply) {
		return <span style={{ overflowWrap: "anywhere" }}>{event.text}</span>;
	}
	return (
		<Stack gap={4}>
			<Text size="sm">
				attempt {String(detail?.attempt ?? "")}
				{typeof detail?.next_attempt_at === "string" && (
					<>
						, next <When time={detail.next_attempt_at} />
					</>
				)}
			</Text>
			<Reply reply={reply} />
		</Stack>
	);
}
