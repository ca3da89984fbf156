import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Anchor, Button, CopyButton, Group, Stack, Text, TextInput, Title } from "@mantine/core";
import { IconCopy, IconSearch } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useParams, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { type Line, type SessionShown, tracing } from "../api/trace";
import { ArchiveNote } from "../parts/archive";
import { Heading } from "../parts/heading";
import { State } from "../parts/state";
import { Failed, Loading } from "../parts/states";
import { octets, plural, shown, soft } from "../parts/text";
import { To } from "../parts/to";
import { WatchButton } from "../parts/watch";
import { exact, When } from "../parts/when";
import classes from "./session.module.css";
import { lasted } from "./sessions";

/** One session: who, how it went, and the exact transcript. */
export function SessionPage() {
	const { id } = useParams({ from: "/sessions/$id" });
	const { archive } = useSearch({ from: "/sessions/$id" });
	const session = useQuery({
		queryKey: ["session", id, archive],
		queryFn: () => tracing.session(id, archive),
		meta: { past: (s: SessionShown) => archive !== undefined || s.outcome !== "open" },
	});
	if (!session.data) {
		return session.error ? <Failed error={session.error} /> : <Loading what={t`the session`} />;
	}
	const s = session.data;
	return (
		<Stack gap="md">
			<ArchiveNote />
			<div>
				<Group justify="space-between" align="start">
					<Heading>
						{s.direction === "in" ? t`Session from` : t`Session to`} {s.name || s.address} <State state={s.outcome} />
					</Heading>
					{archive === undefined && <WatchButton what={s.address} />}
				</Group>
				<Text size="sm">
					<Trans>
						{s.protocol}, {s.direction === "in" ? t`listener ${s.listener ?? ""}` : t`route ${s.route ?? ""}`},{" "}
						<span className="mono">
							[{s.address}]:{s.port}
						</span>
						, began <When time={s.started_at} /> ({exact(s.started_at)}), lasted {lasted(s.seconds)}
					</Trans>
					{s.account && (
						<Trans>
							, account <span className="mono">{s.account}</span>
						</Trans>
					)}
					<Trans>
						, id <span className="mono">{s.id}</span>, node {s.node}
					</Trans>
				</Text>
				<Text size="sm">
					<Trans>
						{s.tls || t`without TLS`}; {plural(s.message_count, t`message`, t`messages`)} to{" "}
						{plural(s.recipients, t`recipient`, t`recipients`)}, {s.refused} refused; {octets(s.bytes_in)} in,{" "}
						{octets(s.bytes_out)} out. {s.ended ? t`It ended because ${s.ended}.` : t`It is open.`}
					</Trans>
				</Text>
			</div>
			<About session={s} archive={archive} />
			<Transcript session={s} />
		</Stack>
	);
}

function About({ session: s, archive }: { session: SessionShown; archive?: number }) {
	if (s.subjects.length === 0 && s.refusals.length === 0) {
		return null;
	}
	return (
		<section className="surface" aria-label={t`Messages of this session`}>
			<Stack gap={4} p="sm">
				{s.subjects.map((l) => (
					<Group gap="sm" key={l.id} wrap="nowrap">
						<State state={l.state} />
						<To to="/messages/$id" params={{ id: l.id }} search={{ archive }} size="sm">
							{l.subject || t`(no subject)`}
						</To>
						<span className="mono">{soft(shown(l.sender))}</span>
					</Group>
				))}
				{s.messages.length > s.subjects.length && (
					<Text size="xs" c="dimmed">
						<Trans>and {s.messages.length - s.subjects.length} more</Trans>
					</Text>
				)}
				{s.refusals.map((r) => (
					<Group gap="sm" key={r.id} wrap="nowrap">
						<State state="refused" />
						<To to="/refusals/$id" params={{ id: r.id }} search={{ archive }} size="sm">
							<span className="mono">
								{r.code} {r.enhanced} {r.text}
							</span>
						</To>
						<span className="mono">{soft(r.recipient)}</span>
					</Group>
				))}
			</Stack>
		</section>
	);
}

function asText(lines: Line[]): string {
	const mark: Record<string, string> = { client: "C: ", server: "S: ", note: "-- " };
	return lines.map((l) => `${l.at.toFixed(3).padStart(10)} ${mark[l.who]}${l.text}`).join("\n");
}

/** foldFrom is how long a line may be before it is folded. */
const foldFrom = 300;

function Transcript({ session: s }: { session: SessionShown }) {
	const [find, setFind] = useState("");
	const needle = find.toLowerCase();
	const lines = s.transcript.filter((l) => l.text.toLowerCase().includes(needle));
	return (
		<section className="surface" aria-labelledby="transcript">
			<Group justify="space-between" p="sm" pb={4}>
				<Title order={2} size="h5" id="transcript">
					<Trans>
						Transcript{" "}
						<Text span size="xs" c="dimmed">
							<Trans>without credentials and content; seconds since it began</Trans>
						</Text>
					</Trans>
				</Title>
				<Group gap="xs">
					<TextInput
						size="xs"
						aria-label={t`Find in the transcript`}
						placeholder={t`Find in the transcript`}
						leftSection={<IconSearch size={14} />}
						value={find}
						onChange={(e) => setFind(e.currentTarget.value)}
					/>
					<CopyButton value={asText(s.transcript)}>
						{({ copied, copy }) => (
							<Button size="xs" variant="default" leftSection={<IconCopy size={14} />} onClick={copy}>
								{copied ? t`Copied` : t`Copy`}
							</Button>
						)}
					</CopyButton>
				</Group>
			</Group>
			{s.missing && (
				<Text size="sm" p="sm">
					{s.missing}
				</Text>
			)}
			<ol className={classes.transcript}>
				{lines.map((l, i) => (
					// biome-ignore lint/suspicious/noArrayIndexKey: lines have no other name than their place
					<li key={i} data-who={l.who} data-bad={/^[45]\d\d/.test(l.text) && l.who === "server" ? true : undefined}>
						<span className={classes.at}>{l.at.toFixed(3)}</span>
						<span className={classes.who}>{l.who === "note" ? "" : l.who}</span>
						<Text span inherit className={classes.text}>
							<Folded line={l} />
						</Text>
					</li>
				))}
			</ol>
			{needle && lines.length === 0 && (
				<Text size="sm" p="sm" c="dimmed">
					<Trans>No line has that in it.</Trans>
				</Text>
			)}
		</section>
	);
}

function Folded({ line }: { line: Line }) {
	const [open, setOpen] = useState(false);
	const rest = line.cut ? t` … ${line.cut} octets more were not kept` : "";
	if (line.text.length <= foldFrom || open) {
		return (
			<>
				{line.text}
				{rest}
			</>
		);
	}
	return (
		<>
			{line.text.slice(0, foldFrom)}{" "}
			<Anchor component="button" inherit onClick={() => setOpen(true)}>
				<Trans>… {line.text.length - foldFrom} more</Trans>
			</Anchor>
		</>
	);
}
