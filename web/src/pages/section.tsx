import "@mantine/core/styles/Pagination.layer.css";
import {
	closestCenter,
	DndContext,
	type DragEndEvent,
	KeyboardSensor,
	PointerSensor,
	useSensor,
	useSensors,
} from "@dnd-kit/core";
import {
	SortableContext,
	sortableKeyboardCoordinates,
	useSortable,
	verticalListSortingStrategy,
} from "@dnd-kit/sortable";
import { CSS } from "@dnd-kit/utilities";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import {
	ActionIcon,
	Badge,
	Button,
	Group,
	Pagination,
	Stack,
	Table,
	Text,
	TextInput,
	UnstyledButton,
} from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { IconArrowDown, IconArrowUp, IconFilter, IconGripVertical, IconPlus } from "@tabler/icons-react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { gull } from "../api/client";
import { queue } from "../api/queue";
import { type Item, type Section, type SectionKey, setup } from "../api/setup";
import { CertificateStates } from "../parts/certificates";
import { Editor } from "../parts/editor";
import { title, words } from "../parts/fields";
import { Heading } from "../parts/heading";
import { ListStates } from "../parts/list-states";
import { useMayChange } from "../parts/may";
import { Proposals } from "../parts/proposals";
import { Failed, Loading, NotFound, Nothing } from "../parts/states";
import { plural } from "../parts/text";
import { TLSPolicies } from "../parts/tls-policies";
import classes from "./setup.module.css";

type About = { one: string; many: string; says: string; empty: string; columns: string[]; first: string[] };

/** What each section is to people, and which fields come first. */
export const sections: Record<Exclude<SectionKey, "service">, About> = {
	domains: {
		one: "domain",
		many: t`Domains`,
		says: t`Mail for these is taken from anyone. Local: every address is ours. Shared: what we don't know goes on. Relay: everything goes on.`,
		empty: t`Add the domain your addresses end in; until then no mail is taken from outside.`,
		columns: ["kind", "route", "generated_addresses", "catch_all", "outgoing"],
		first: ["name", "kind", "route", "generated_addresses", "catch_all", "plus_addressing"],
	},
	listeners: {
		one: "listener",
		many: t`Listeners`,
		says: t`Where mail comes in: from the world (edge), from people who sign in (submission), from machines of ours (inside), from a neighbouring server (lmtp).`,
		empty: t`Add one of kind edge at port 25 to hear the world.`,
		columns: ["address", "kind", "tls", "sign_in", "allow"],
		first: ["name", "address", "kind", "tls", "certificate", "key", "allow"],
	},
	relay_rules: {
		one: t`relay rule`,
		many: t`Relay rules`,
		says: t`Who may send to others' domains. The first that matches decides; without a match the answer is no. Mail for our own domains needs no rule.`,
		empty: t`Nobody relays, which is safe. Add a rule for the network of your own machines, or for people who sign in.`,
		columns: ["action", "networks", "accounts", "certificates", "listeners", "senders", "recipients"],
		first: ["name", "action", "networks", "accounts", "listeners", "senders", "recipients", "own_sender", "limits"],
	},
	routes: {
		one: "route",
		many: t`Routes`,
		says: t`Where mail goes next. The first that matches decides; what none matches waits, stranded. An asterisk stands for domains that are not ours.`,
		empty: t`Nothing leads out: messages to others wait as stranded. Add a route with recipients * and next hop mx, or a smart host.`,
		columns: ["recipients", "next_hop", "hosts", "port", "tls"],
		first: ["name", "recipients", "next_hop", "hosts", "port", "tls", "sign_in", "off"],
	},
	peers: {
		one: "peer",
		many: t`Peers`,
		says: t`What was agreed with others' domains: TLS, speed, format, automatic replies, forwards and notices. The first that matches counts.`,
		empty: t`Nothing is agreed with anybody. Add a peer to demand TLS of a domain, or to send it fewer messages at a time.`,
		columns: ["domains", "tls", "connections", "messages_per_minute", "automatic_replies"],
		first: ["name", "domains", "tls", "connections", "messages_per_minute", "automatic_replies"],
	},
	gates: {
		one: "gate",
		many: t`Gates`,
		says: t`Rules on whole messages, asked in order: what holds of a message, and what is done about it. The effects of all that match add up. One that watches decides nothing and counts.`,
		empty: t`No gate looks at messages. Begin with one of the proposals, or add one of your own; let it watch first.`,
		columns: ["when", "does", "severity", "about"],
		first: ["name", "watch", "about", "when", "then", "severity", "stop"],
	},
	dns_lists: {
		one: "DNS list",
		many: t`DNS lists`,
		says: t`Lists that are asked by DNS about strangers: their addresses, the domains they write from, the links they send. What each counts is added to the score.`,
		empty: t`No list is asked about strangers. Add one that you trust, and let the score watch first.`,
		columns: ["zone", "kind", "asks", "points", "ask_at"],
		first: ["name", "zone", "kind", "asks", "points"],
	},
	scanners: {
		one: "scanner",
		many: t`Scanners`,
		says: t`Scanners beside us, asked by ICAP. Gates ask for their verdict; one that does not answer is passed over for a while.`,
		empty: t`No scanner is set up. Add one, then a gate that asks for its verdict.`,
		columns: ["url", "weight", "timeout", "size_up_to"],
		first: ["name", "url", "weight", "timeout", "size_up_to", "off"],
	},
	dns_servers: {
		one: t`DNS server`,
		many: t`DNS servers`,
		says: t`Servers of our zones that take changes, signed with a key. With one, records are published by a button in Readiness, and certificates can be proven by DNS.`,
		empty: t`No server takes changes from us: records are put in by hand. Add the one that holds your zones, with the key that it knows.`,
		columns: ["address", "zones", "key_name", "secret"],
		first: ["name", "address", "zones", "key_name", "secret", "algorithm"],
	},
	certificates: {
		one: t`certificate`,
		many: t`Certificates`,
		says: t`Certificates that are kept here, their keys encrypted: asked for and renewed by themselves at an authority (Server, certificate_authority), or uploaded. Listeners show them as kept:NAME.`,
		empty: t`None is kept here: listeners show files, or a self-made one that strict senders do not take. Add one with the names of this server.`,
		columns: ["names", "from", "proof", "key"],
		first: ["name", "names", "from", "proof", "key"],
	},
	lists: {
		one: "list",
		many: t`Lists`,
		says: t`Named sets that gates, relay rules, routes and peers refer to as list:NAME. Changed here, they change everywhere.`,
		empty: t`There is no list yet. Add one of addresses, networks, words, kinds of files or hours.`,
		columns: ["kind", "entries", "source", "about"],
		first: ["name", "kind", "entries", "about"],
	},
};

const perPage = 100;

/** The list of one section, as the draft has it, with the form of an item beside it. */
export function SectionPage() {
	const { section } = useParams({ from: "/setup/$section" });
	const about = sections[section as keyof typeof sections];
	if (!about) {
		return <NotFound />;
	}
	return <SectionList key={section} section={section as SectionKey} about={about} />;
}

function SectionList({ section, about }: { section: SectionKey; about: About }) {
	const list = useQuery({ queryKey: ["setup", section], queryFn: () => setup.list(section) });
	const search = useSearch({ from: "/setup/$section" });
	const navigate = useNavigate();
	const may = useMayChange();
	const [page, setPage] = useState(1);
	const [sort, setSort] = useState<{ by: string; down: boolean } | null>(null);
	const go = (words: { find?: string; item?: string }) =>
		void navigate({
			to: "/setup/$section",
			params: { section },
			search: { ...search, ...words },
			replace: true,
		});
	if (!list.data) {
		return list.error ? <Failed error={list.error} /> : <Loading what={about.many.toLowerCase()} />;
	}
	const find = (search.find ?? "").toLowerCase();
	const matching = list.data.items.filter((i) => `${i.name} ${words(i.fields)}`.toLowerCase().includes(find));
	const sorted = sort
		? matching.toSorted((a, b) => {
				const [x, y] = [a, b].map((i) => (sort.by === "name" ? i.name : words(i.fields[sort.by])));
				return (x ?? "").localeCompare(y ?? "", undefined, { numeric: true }) * (sort.down ? -1 : 1);
			})
		: matching;
	const shown = sorted.slice((page - 1) * perPage, page * perPage);
	const still = list.data.ordered && !find && !sort && matching.length <= perPage && may;
	const open = search.item === "+" ? null : list.data.items.find((i) => i.name === search.item);
	return (
		<Stack gap="sm">
			<Group justify="space-between" align="end">
				<div>
					<Heading>
						{about.many}{" "}
						<Text span c="dimmed" size="sm">
							{plural(list.data.items.length, about.one, `${about.one}s`)}
							{list.data.draft ? t`, as the draft has them` : ""}
						</Text>
					</Heading>
					<Text size="sm" c="dimmed" maw={760}>
						{about.says}
					</Text>
				</div>
				<Group gap="xs">
					{section === "gates" && <Proposals />}
					<TextInput
						size="xs"
						w={220}
						placeholder={t`Filter`}
						aria-label={t`Filter ${about.many.toLowerCase()}`}
						leftSection={<IconFilter size={14} />}
						value={search.find ?? ""}
						onChange={(e) => go({ find: e.currentTarget.value || undefined })}
					/>
					<Button size="xs" leftSection={<IconPlus size={14} />} disabled={!may} onClick={() => go({ item: "+" })}>
						<Trans>Add a {about.one}</Trans>
					</Button>
				</Group>
			</Group>
			<div className="surface">
				{shown.length === 0 ? (
					<Nothing title={find ? t`Nothing matches` : t`There is no ${about.one} yet`}>
						{find ? t`Take the filter away to see all.` : about.empty}
					</Nothing>
				) : (
					<Rows
						section={section}
						about={about}
						items={shown}
						ordered={list.data.ordered}
						movable={still}
						sort={sort}
						onSort={(by) => setSort(sort?.by === by ? (sort.down ? null : { by, down: true }) : { by, down: false })}
						onOpen={(item) => go({ item })}
						last={list.data.items.length}
					/>
				)}
			</div>
			{section === "lists" && <ListStates />}
			{section === "certificates" && <CertificateStates />}
			{section === "peers" && <TLSPolicies />}
			{sorted.length > perPage && (
				<Pagination size="sm" total={Math.ceil(sorted.length / perPage)} value={page} onChange={setPage} />
			)}
			<ItemEditor
				section={section}
				about={about}
				list={list.data}
				open={open ?? undefined}
				adding={search.item === "+"}
				onClose={() => go({ item: undefined })}
			/>
		</Stack>
	);
}

type RowsProps = {
	section: SectionKey;
	about: About;
	items: Item[];
	ordered: boolean;
	movable: boolean;
	sort: { by: string; down: boolean } | null;
	onSort: (by: string) => void;
	onOpen: (name: string) => void;
	last: number;
};

function Rows({ section, about, items, ordered, movable, sort, onSort, onOpen, last }: RowsProps) {
	const client = useQueryClient();
	const sensors = useSensors(
		useSensor(PointerSensor, { activationConstraint: { distance: 4 } }),
		useSensor(KeyboardSensor, { coordinateGetter: sortableKeyboardCoordinates }),
	);
	const move = useMutation({
		mutationFn: ({ name, position }: { name: string; position: number }) => setup.move(section, name, position),
		onMutate: ({ name, position }) => {
			// The row stands immediately where it was put; the service's answer follows.
			client.setQueryData<Section>(["setup", section], (old) => {
				if (!old) {
					return old;
				}
				const rest = old.items.filter((i) => i.name !== name);
				const moved = old.items.find((i) => i.name === name);
				return moved
					? {
							...old,
							items: [...rest.slice(0, position - 1), moved, ...rest.slice(position - 1)].map((i, n) => ({
								...i,
								position: n + 1,
							})),
						}
					: old;
			});
		},
		onError: (e) => notifications.show({ color: "buoy", title: t`Not moved`, message: e.message }),
		onSettled: () => void client.invalidateQueries(),
	});
	const dropped = ({ active, over }: DragEndEvent) => {
		const to = items.find((i) => i.name === over?.id);
		if (to && active.id !== over?.id) {
			move.mutate({ name: String(active.id), position: to.position });
		}
	};
	return (
		<Table.ScrollContainer minWidth={780}>
			<DndContext sensors={sensors} collisionDetection={closestCenter} onDragEnd={dropped}>
				<Table verticalSpacing={5} horizontalSpacing="sm" highlightOnHover>
					<Table.Thead>
						<Table.Tr>
							{ordered && (
								<Table.Th w={96}>
									<Trans>Place</Trans>
								</Table.Th>
							)}
							{["name", ...about.columns].map((c) => (
								<Table.Th key={c} aria-sort={sort?.by === c ? (sort.down ? "descending" : "ascending") : "none"}>
									<UnstyledButton fz="inherit" fw="inherit" onClick={() => onSort(c)}>
										{title(c)} {sort?.by === c ? (sort.down ? "↓" : "↑") : ""}
									</UnstyledButton>
								</Table.Th>
							))}
							{section === "listeners" && (
								<Table.Th>
									<Trans>Now</Trans>
								</Table.Th>
							)}
						</Table.Tr>
					</Table.Thead>
					<Table.Tbody>
						<SortableContext
							items={items.map((i) => i.name)}
							strategy={verticalListSortingStrategy}
							disabled={!movable}
						>
							{items.map((i) => (
								<Row
									key={i.name}
									item={i}
									about={about}
									ordered={ordered}
									movable={movable}
									onOpen={() => onOpen(i.name)}
									onMove={(by) => {
										const position = i.position + by;
										if (position >= 1 && position <= last) {
											move.mutate({ name: i.name, position });
										}
									}}
								/>
							))}
						</SortableContext>
					</Table.Tbody>
				</Table>
			</DndContext>
		</Table.ScrollContainer>
	);
}

const effects = [
	"refuse",
	"discard",
	"hold",
	"redirect_to",
	"copy_to",
	"route",
	"delay",
	"remove_attachments",
	"clean",
	"add_text",
	"mark",
];

/** does is what a gate does, in the order in which it is done. */
function does(fields: Item["fields"]): string {
	const then = (fields.then ?? {}) as Item["fields"];
	const all = effects
		.filter((e) => then[e])
		.map((e) => (then[e] === true ? title(e).toLowerCase() : `${title(e).toLowerCase()} ${words(then[e])}`));
	return [...all, ...(fields.stop ? ["stop"] : [])].join("; ");
}

const isOff = (i: Item) => i.fields.off === true;

type RowProps = {
	item: Item;
	about: About;
	ordered: boolean;
	movable: boolean;
	onOpen: () => void;
	onMove: (by: number) => void;
};

/** Row is one item; its position changes by dragging, by its arrows, or by Space and the arrow keys on its grip. */
function Row({ item, about, ordered, movable, onOpen, onMove }: RowProps) {
	const s = useSortable({ id: item.name });
	return (
		<Table.Tr
			ref={s.setNodeRef}
			style={{ transform: CSS.Translate.toString(s.transform), transition: s.transition }}
			className={isOff(item) ? classes.off : undefined}
		>
			{ordered && (
				<Table.Td>
					<Group gap={2} wrap="nowrap">
						{movable && (
							<button
								type="button"
								className={classes.grip}
								{...s.attributes}
								{...s.listeners}
								aria-label={t`Drag ${item.name}`}
							>
								<IconGripVertical size={15} />
							</button>
						)}
						{item.position}
						{movable && (
							<>
								<ActionIcon size="xs" variant="subtle" aria-label={t`Move ${item.name} up`} onClick={() => onMove(-1)}>
									<IconArrowUp size={13} />
								</ActionIcon>
								<ActionIcon size="xs" variant="subtle" aria-label={t`Move ${item.name} down`} onClick={() => onMove(1)}>
									<IconArrowDown size={13} />
								</ActionIcon>
							</>
						)}
					</Group>
				</Table.Td>
			)}
			<Table.Td>
				<UnstyledButton className={classes.row_button} onClick={onOpen}>
					{item.name}
				</UnstyledButton>
				{isOff(item) && (
					<Badge ml={6} size="xs" variant="outline" color="gray" tt="none">
						<Trans>off</Trans>
					</Badge>
				)}
				{item.fields.watch === true && (
					<Badge ml={6} size="xs" variant="outline" color="gray" tt="none">
						<Trans>watches</Trans>
					</Badge>
				)}
			</Table.Td>
			{about.columns.map((c) => (
				<Table.Td key={c} className={classes.clip}>
					{c === "does" ? does(item.fields) : words(item.fields[c])}
				</Table.Td>
			))}
			{about.one === "listener" && (
				<Table.Td>
					<Open name={item.name} />
				</Table.Td>
			)}
		</Table.Tr>
	);
}

/** Open says how a listener does in truth, whatever the draft says. */
function Open({ name }: { name: string }) {
	const status = useQuery({ queryKey: ["status"], queryFn: gull.status });
	const l = status.data?.listeners.find((x) => x.name === name);
	if (!l) {
		return <Trans>not in force yet</Trans>;
	}
	return l.address ? (
		<Trans>open, {plural(l.sessions, t`session`, t`sessions`)}</Trans>
	) : (
		<span className={classes.kind} data-tone="trouble">
			<Trans>▲ not open</Trans>
		</span>
	);
}

/** How many messages wait to go by a route. */
async function waitingBy(route: string): Promise<number> {
	const groups = await queue.groups("route");
	return groups.items.find((g) => g.by === route)?.messages ?? 0;
}

type ItemEditorProps = {
	section: SectionKey;
	about: About;
	list: Section;
	open?: Item;
	adding: boolean;
	onClose: () => void;
};

function ItemEditor({ section, about, list, open, adding, onClose }: ItemEditorProps) {
	const done = (r: { text: string }) => {
		notifications.show({ color: "kelp", message: t`In the draft: ${r.text}.` });
		return r;
	};
	return (
		<Editor
			opened={adding || open !== undefined}
			onClose={onClose}
			title={open ? `${title(about.one)}: ${open.name}` : t`A new ${about.one}`}
			fields={list.fields}
			first={about.first}
			seen={{ fields: open?.fields ?? {}, mark: open?.mark ?? "" }}
			now={async () => (await setup.list(section)).items.find((i) => i.name === open?.name)}
			note={t`Saved changes collect in the draft. They count when it is applied.`}
			check={(v, mark) => (open ? setup.set(section, open.name, v, mark, true) : setup.add(section, v, true))}
			save={(v, mark) => (open ? setup.set(section, open.name, v, mark) : setup.add(section, v)).then(done)}
			remove={open ? (mark) => setup.remove(section, open.name, mark).then(done) : undefined}
			removal={async () => (
				<>
					<Trans>
						The {about.one} {open?.name} is taken out of the draft; it counts until the draft is applied. What names it
						is told then.
					</Trans>
					{section === "routes" && (
						<>
							{" "}
							<Trans>
								Now {plural(await waitingBy(open?.name ?? ""), t`message waits`, t`messages wait`)} to go by it; they
								take the next route that fits, or are stranded.
							</Trans>
						</>
					)}
				</>
			)}
		/>
	);
}
