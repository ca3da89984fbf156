import {
	Anchor,
	Badge,
	Button,
	CopyButton,
	Group,
	SegmentedControl,
	Select,
	Stack,
	Text,
	TextInput,
	Title,
} from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { IconDownload, IconLink, IconSearch } from "@tabler/icons-react";
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { DataTable } from "mantine-datatable";
import { useEffect, useRef, useState } from "react";
import { type Found, type SearchWords, tracing } from "../api/trace";
import { ArchiveNote } from "../parts/archive";
import { FilterText } from "../parts/filter";
import { State } from "../parts/state";
import { Failed, Loading, Nothing } from "../parts/states";
import { download, toCSV } from "../parts/table-file";
import { octets, shown } from "../parts/text";
import { AsOf, exact, When } from "../parts/when";
import { ArchivesView } from "./archives";
import { FollowView } from "./follow";
import { SessionsView } from "./sessions";

const views = [
	{ value: "messages", label: "Messages" },
	{ value: "sessions", label: "Sessions" },
	{ value: "live", label: "Live" },
	{ value: "archives", label: "Archives" },
];

/** Where is my message: search, sessions, what happens now, and archives. */
export function TracePage() {
	const search = useSearch({ from: "/trace" });
	const navigate = useNavigate();
	const view = search.view ?? "messages";
	return (
		<Stack gap="sm">
			<Group gap="md">
				<Title order={1} size="h3">
					Trace
				</Title>
				<SegmentedControl
					size="xs"
					aria-label="What to look at"
					data={views}
					value={view}
					onChange={(v) =>
						void navigate({
							to: "/trace",
							search: { view: v === "messages" ? undefined : v, archive: search.archive } as never,
						})
					}
				/>
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
	useHotkeys([["mod+k", () => box.current?.select()]]);
	const set = (change: SearchWords) =>
		void navigate({ to: "/trace", search: { ...words, ...change } as never, replace: true });
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
						aria-label="Search"
						leftSection={<IconSearch size={16} />}
						placeholder="ines.harrow@… since yesterday · saltmarsh.example bounced · “night boat” today 10:00 · 127.20.1.0/24 refused"
						value={text}
						onChange={(e) => setText(e.currentTarget.value)}
					/>
					<Button type="submit" size="sm">
						Search
					</Button>
					<Button size="sm" variant="default" onClick={() => setMore(!more)} aria-expanded={more}>
						Filters
					</Button>
				</Group>
			</form>
			{more && (
				<Group gap="xs" key={JSON.stringify([words.archive])}>
					<FilterText label="Sender" value={words.from} onChange={(from) => set({ from })} />
					<FilterText label="Recipient" value={words.to} onChange={(to) => set({ to })} />
					<FilterText label="Subject" value={words.subject} onChange={(subject) => set({ subject })} />
					<FilterText label="Client" value={words.client} onChange={(client) => set({ client })} />
					<FilterText label="Remote host" value={words.host} onChange={(host) => set({ host })} />
					<FilterText label="Cause" value={words.cause} onChange={(cause) => set({ cause })} />
					<Select
						size="xs"
						w={130}
						aria-label="State"
						placeholder="Any state"
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

const pageSize = 100;

function Results({ words }: { words: SearchWords }) {
	const navigate = useNavigate();
	const found = useInfiniteQuery({
		queryKey: ["search", words],
		queryFn: ({ pageParam }) => tracing.search(words, pageParam, pageSize),
		initialPageParam: "",
		getNextPageParam: (last) => last.next || undefined,
		retry: false,
	});
	if (!found.data) {
		return found.error ? <Failed error={found.error} /> : <Loading what="the messages" />;
	}
	const items = found.data.pages.flatMap((p) => p.items);
	const understood = found.data.pages[0]?.understood ?? [];
	const back = found.data.pages[found.data.pages.length - 1]?.searched_back_to;
	const go = (f: Found) =>
		void navigate({
			to: f.refused ? "/refusals/$id" : "/messages/$id",
			params: { id: f.id },
			search: { archive: words.archive },
		} as never);
	return (
		<>
			<Group gap={6} justify="space-between">
				<Group gap={6} aria-label="How it was understood">
					{understood.length === 0 ? (
						<Text size="xs" c="dimmed">
							All messages, {words.order ?? "newest"} first, and what was refused before it was one.
						</Text>
					) : (
						understood.map((u) => (
							<Badge key={u} tt="none" variant="light" size="sm" radius="sm">
								{u}
							</Badge>
						))
					)}
				</Group>
				<Group gap={4}>
					<AsOf time={found.data.pages[0]?.as_of} />
					<CopyButton value={window.location.href}>
						{({ copied, copy }) => (
							<Button size="compact-xs" variant="subtle" leftSection={<IconLink size={12} />} onClick={copy}>
								{copied ? "Copied" : "Copy link"}
							</Button>
						)}
					</CopyButton>
					<Button
						size="compact-xs"
						variant="subtle"
						leftSection={<IconDownload size={12} />}
						onClick={() => download("messages.csv", toCSV(items.map(flat)))}
					>
						CSV
					</Button>
					<Button
						size="compact-xs"
						variant="subtle"
						leftSection={<IconDownload size={12} />}
						onClick={() => download("messages.jsonl", items.map((i) => JSON.stringify(i)).join("\n"))}
					>
						JSON Lines
					</Button>
				</Group>
			</Group>
			{items.length === 0 ? (
				<div className="surface">
					<Nothing title="Nothing matches">
						{back
							? `Searched as far as ${back.slice(0, 10)} up to now.`
							: "A part of an address or subject is enough. Messages are kept for a time only; older ones are in archives."}
					</Nothing>
				</div>
			) : (
				<div className="surface">
					<DataTable<Found>
						records={items}
						verticalSpacing={4}
						withTableBorder={false}
						backgroundColor="var(--gull-surface)"
						height="calc(100vh - 235px)"
						fetching={found.isFetchingNextPage}
						onScrollToBottom={() => found.hasNextPage && void found.fetchNextPage()}
						onRowClick={({ record }) => go(record)}
						sortStatus={{ columnAccessor: "received_at", direction: words.order === "oldest" ? "asc" : "desc" }}
						onSortStatusChange={({ direction }) =>
							void navigate({
								to: "/trace",
								search: { ...words, order: direction === "asc" ? "oldest" : undefined } as never,
								replace: true,
							})
						}
						columns={[
							{
								accessor: "received_at",
								title: "Received",
								width: 100,
								sortable: true,
								render: (m) => <When time={m.received_at} />,
							},
							{ accessor: "state", title: "State", width: 125, render: (m) => <Sum found={m} /> },
							{
								accessor: "subject",
								title: "Subject",
								render: (m) => (
									<Anchor
										component={Link}
										to={m.refused ? "/refusals/$id" : "/messages/$id"}
										params={{ id: m.id } as never}
										search={{ archive: words.archive } as never}
										inherit
										onClick={(e: React.MouseEvent) => e.stopPropagation()}
									>
										{m.refused ? <WhyRefused found={m} /> : m.subject || "(no subject)"}
									</Anchor>
								),
							},
							{
								accessor: "sender",
								title: "From",
								width: 190,
								ellipsis: true,
								render: (m) => (
									<span className="mono" title={m.sender}>
										{shown(m.sender)}
									</span>
								),
							},
							{ accessor: "deliveries", title: "To", width: 200, ellipsis: true, render: (m) => <To found={m} /> },
							{
								accessor: "client_address",
								title: "Client",
								width: 115,
								render: (m) => <span className="mono">{m.client_address || "–"}</span>,
							},
							{
								accessor: "size",
								title: "Size",
								textAlign: "right",
								width: 80,
								render: (m) => (m.size > 0 ? octets(m.size) : "–"),
							},
							{ accessor: "id", title: "Id", width: 130, render: (m) => <span className="mono">{m.id}</span> },
						]}
					/>
				</div>
			)}
			{back && found.hasNextPage && (
				<Group gap="xs">
					<Text size="sm">Searched as far as {exact(back)}.</Text>
					<Button size="compact-sm" loading={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
						Look further
					</Button>
				</Group>
			)}
		</>
	);
}

const flat = (f: Found) => ({
	id: f.id,
	received_at: f.received_at,
	sender: f.sender,
	recipients: f.refused ? f.refused.recipient : f.deliveries.map((d) => d.recipient).join(" "),
	states: f.refused ? "refused" : f.deliveries.map((d) => d.state).join(" "),
	subject: f.subject,
	size: f.size,
	client: f.client_address,
	answer: f.refused ? `${f.refused.code} ${f.refused.enhanced} ${f.refused.text}` : "",
});

function WhyRefused({ found }: { found: Found }) {
	return (
		<>
			{found.subject && `${found.subject}: `}
			{found.refused?.code} {found.refused?.text}
		</>
	);
}

/** The worst state counts: that is what somebody asks about. */
const worstFirst = ["bounced", "expired", "deferred", "held", "waiting", "sending", "delivered", "discarded"];

function Sum({ found }: { found: Found }) {
	if (found.refused) {
		return <State state="refused" />;
	}
	const has = new Set<string>(found.deliveries.map((d) => d.state));
	const worst = worstFirst.find((s) => has.has(s));
	return worst ? <State state={worst} /> : null;
}

function To({ found }: { found: Found }) {
	const to = found.refused ? [found.refused.recipient || "–"] : found.deliveries.map((d) => d.recipient);
	return (
		<span className="mono" title={to.join("\n")}>
			{to.length > 1 && `${to.length}: `}
			{to[0] ?? "–"}
		</span>
	);
}
