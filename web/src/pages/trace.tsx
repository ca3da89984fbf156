import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Badge, Button, CopyButton, Group, SegmentedControl, Select, Stack, Text, TextInput } from "@mantine/core";
import { IconLink, IconSearch } from "@tabler/icons-react";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useEffect, useMemo, useRef, useState } from "react";
import { type Found, type SearchWords, tracing } from "../api/trace";
import { ArchiveNote } from "../parts/archive";
import type { Column } from "../parts/columns";
import { CSV } from "../parts/csv";
import { FilterText } from "../parts/filter";
import { Heading } from "../parts/heading";
import { List } from "../parts/list";
import { wordOf } from "../parts/names";
import { usePages } from "../parts/pages";
import { RowTo } from "../parts/row-to";
import { State, worstOf } from "../parts/state";
import { Nothing } from "../parts/states";
import { octets, shown } from "../parts/text";
import { zoneName } from "../parts/time";
import { Views } from "../parts/views";
import { AsOf, exact, When } from "../parts/when";
import { ArchivesView } from "./archives";
import { FollowView } from "./follow";
import { SessionsView } from "./sessions";

const views = [
	{ value: "messages", label: t`Messages` },
	{ value: "sessions", label: t`Sessions` },
	{ value: "live", label: t`Live` },
	{ value: "archives", label: t`Archives` },
];

/** Where is my message: search, sessions, what happens now, and archives. */
export function TracePage() {
	const search = useSearch({ from: "/trace" });
	const navigate = useNavigate();
	const view = search.view ?? "messages";
	return (
		<Stack gap="sm">
			<Group gap="md">
				<Heading>
					<Trans>Trace</Trans>
				</Heading>
				<SegmentedControl
					size="xs"
					aria-label={t`What to look at`}
					data={views}
					value={view}
					onChange={(v) =>
						void navigate({
							to: "/trace",
							search: { view: v === "messages" ? undefined : v, archive: search.archive },
						})
					}
				/>
				<Views />
			</Group>
			{view !== "archives" && view !== "live" && <ArchiveNote />}
			{view === "messages" && <SearchView />}
			{view === "sessions" && <SessionsView />}
			{view === "live" && <FollowView />}
			{view === "archives" && <ArchivesView />}
		</Stack>
	);
}

const states = ["waiting", "deferred", "held", "delivered", "bounced", "expired", "discarded", "refused"];

function SearchView() {
	const { view: _, ...words } = useSearch({ from: "/trace" });
	const navigate = useNavigate();
	const [text, setText] = useState(words.q ?? "");
	const [more, setMore] = useState(
		Object.entries(words).some(([k, v]) => v !== undefined && k !== "q" && k !== "order" && k !== "archive"),
	);
	const box = useRef<HTMLInputElement>(null);
	useEffect(() => setText(words.q ?? ""), [words.q]);
	const set = (change: SearchWords) => void navigate({ to: "/trace", search: { ...words, ...change }, replace: true });
	return (
		<>
			<form
				onSubmit={(e) => {
					e.preventDefault();
					set({ q: text.trim() || undefined });
				}}
			>
				<Group gap="xs" align="end">
					<TextInput
						ref={box}
						style={{ flex: 1, minWidth: 260 }}
						size="sm"
						aria-label={t`Search`}
						leftSection={<IconSearch size={16} />}
						placeholder={t`ines.harrow@… since yesterday · saltmarsh.example bounced · “night boat” today 10:00 · 127.20.1.0/24 refused`}
						value={text}
						onChange={(e) => setText(e.currentTarget.value)}
					/>
					<Button type="submit" size="sm">
						<Trans>Search</Trans>
					</Button>
					<Button size="sm" variant="default" onClick={() => setMore(!more)} aria-expanded={more}>
						<Trans>Filters</Trans>
					</Button>
				</Group>
			</form>
			{more && (
				<Group gap="xs">
					<FilterText label={t`Sender`} value={words.from} onChange={(from) => set({ from })} />
					<FilterText label={t`Recipient`} value={words.to} onChange={(to) => set({ to })} />
					<FilterText label={t`Subject`} value={words.subject} onChange={(subject) => set({ subject })} />
					<FilterText label={t`Client`} value={words.client} onChange={(client) => set({ client })} />
					<FilterText label={t`Remote host`} value={words.host} onChange={(host) => set({ host })} />
					<FilterText label={t`Cause`} value={words.cause} onChange={(cause) => set({ cause })} />
					<FilterText label={t`Gate`} value={words.gate} onChange={(gate) => set({ gate })} />
					<Select
						size="xs"
						w={130}
						aria-label={t`Severity`}
						placeholder={t`Any severity`}
						clearable
						data={["minor", "serious", "critical"].map((v) => ({ value: v, label: wordOf(v) }))}
						value={words.severity ?? null}
						onChange={(v) => set({ severity: v ?? undefined })}
					/>
					<Select
						size="xs"
						w={130}
						aria-label={t`State`}
						placeholder={t`Any state`}
						clearable
						data={states}
						value={words.state ?? null}
						onChange={(v) => set({ state: v ?? undefined })}
					/>
				</Group>
			)}
			<Results words={words} />
		</>
	);
}

/** Severe is how bad gates found a message. */
function Severe({ severity }: { severity: string }) {
	return (
		<Text span size="xs" fw={600} c={severity === "minor" ? undefined : "buoy"}>
			{severity === "minor" ? "" : "▲ "}
			{wordOf(severity)}
		</Text>
	);
}

const foundKey = (f: Found) => f.id;

const columnsOf = (archive: number | undefined): Column<Found>[] => [
	{
		key: "received_at",
		title: t`Received`,
		width: 112,
		sort: "received",
		down: true,
		cell: (m) => <When time={m.received_at} />,
	},
	{ key: "state", title: t`State`, width: 110, cell: (m) => <Sum found={m} /> },
	{
		key: "subject",
		title: t`Subject`,
		width: 200,
		grow: 4,
		text: (m) => m.subject,
		cell: (m) => (
			<RowTo to={m.refused ? "/refusals/$id" : "/messages/$id"} params={{ id: m.id }} search={{ archive }}>
				{m.refused ? <WhyRefused found={m} /> : m.subject || t`(no subject)`}
			</RowTo>
		),
	},
	{
		key: "sender",
		title: t`From`,
		width: 170,
		grow: 2,
		text: (m) => shown(m.sender),
		cell: (m) => <span className="mono">{shown(m.sender)}</span>,
	},
	{
		key: "to",
		title: t`To`,
		width: 170,
		grow: 2,
		text: (m) => recipientsOf(m).join(", "),
		cell: (m) => <Recipients found={m} />,
	},
	{
		key: "client",
		title: t`Client`,
		width: 112,
		text: (m) => m.client_address,
		cell: (m) => <span className="mono">{m.client_address || "–"}</span>,
	},
	{
		key: "severity",
		title: t`Severity`,
		width: 80,
		text: (m) => m.severity ?? "",
		cell: (m) => (m.severity ? <Severe severity={m.severity} /> : "–"),
	},
	{ key: "size", title: t`Size`, width: 72, right: true, cell: (m) => (m.size > 0 ? octets(m.size) : "–") },
	{
		key: "id",
		title: t`Id`,
		width: 128,
		text: (m) => m.id,
		cell: (m) => <span className="mono">{m.id}</span>,
	},
];

function Results({ words }: { words: SearchWords }) {
	const navigate = useNavigate();
	const columns = useMemo(() => columnsOf(words.archive), [words.archive]);
	const pages = usePages(["search", words], (after, limit) => tracing.search(words, after, limit), {
		rowKey: foundKey,
		size: 100,
		past: () => words.archive !== undefined,
	});
	const understood = pages.first?.understood ?? [];
	const back = pages.last?.searched_back_to;
	return (
		<>
			<Group gap={6} justify="space-between">
				<Group gap={6} aria-label={t`How it was understood`} role="group">
					{understood.length === 0 ? (
						<Text size="xs" c="dimmed">
							<Trans>All messages, {words.order ?? t`newest`} first, and what was refused before it was one.</Trans>
						</Text>
					) : (
						understood.map((u) => (
							<Badge key={u} tt="none" variant="light" size="sm" radius="sm">
								{u}
							</Badge>
						))
					)}
					{understood.length > 0 && (
						<Text size="xs" c="dimmed" span>
							<Trans>Times are of {zoneName(Date.now())}.</Trans>
						</Text>
					)}
				</Group>
				<Group gap={4}>
					<AsOf time={pages.first?.as_of} />
					<CopyButton value={window.location.href}>
						{({ copied, copy }) => (
							<Button size="compact-xs" variant="subtle" leftSection={<IconLink size={12} />} onClick={copy}>
								{copied ? t`Copied` : t`Copy link`}
							</Button>
						)}
					</CopyButton>
				</Group>
			</Group>
			<List
				name="search"
				label={t`Messages that match`}
				words={[t`message`, t`messages`]}
				columns={columns}
				pages={pages}
				rowKey={foundKey}
				opens={(f) => ({
					to: f.refused ? "/refusals/$id" : "/messages/$id",
					params: { id: f.id },
					search: { archive: words.archive },
				})}
				sort={{ by: "received", down: words.order !== "oldest" }}
				onSort={(_, down) =>
					void navigate({ to: "/trace", search: { ...words, order: down ? undefined : "oldest" }, replace: true })
				}
				above={230}
				foot={
					<>
						{back && (
							<span>
								<Trans>searched as far as {exact(back)}</Trans>
							</span>
						)}
						<CSV path="trace.csv" words={words} file="messages.csv" />
						<CSV path="trace.jsonl" words={words} file="messages.jsonl" label={t`JSON Lines`} />
					</>
				}
				empty={
					<Nothing title={t`Nothing matches`}>
						{back
							? t`Searched as far as ${exact(back)} up to now.`
							: t`A part of an address or subject is enough. Messages are kept for a time only; older ones are in archives.`}
					</Nothing>
				}
			/>
		</>
	);
}

function WhyRefused({ found }: { found: Found }) {
	return (
		<>
			{found.subject && `${found.subject}: `}
			{found.refused?.code} {found.refused?.text}
		</>
	);
}

function Sum({ found }: { found: Found }) {
	if (found.refused) {
		return <State state="refused" />;
	}
	const worst = worstOf(found.deliveries);
	return worst ? <State state={worst} /> : null;
}

const recipientsOf = (f: Found) => (f.refused ? [f.refused.recipient || "–"] : f.deliveries.map((d) => d.recipient));

function Recipients({ found }: { found: Found }) {
	const to = recipientsOf(found);
	return (
		<span className="mono">
			{to.length > 1 && `${to.length}: `}
			{to[0] ?? "–"}
		</span>
	);
}
