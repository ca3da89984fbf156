import {
	Alert,
	Anchor,
	Progress as Bar,
	Button,
	FileButton,
	Group,
	Stack,
	Table,
	Text,
	TextInput,
	Title,
	UnstyledButton,
} from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { notifications } from "@mantine/notifications";
import { IconDownload, IconFilter, IconPlus, IconUpload } from "@tabler/icons-react";
import { useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import {
	type AliasLine,
	type Field,
	type Imported,
	type MailboxLine,
	type Page,
	type Progress,
	setup,
} from "../api/setup";
import { Editor, useMayChange } from "../parts/editor";
import { words } from "../parts/fields";
import { MoreButton } from "../parts/more";
import { Failed, Loading, Nothing } from "../parts/states";
import { count, octets, soft } from "../parts/text";
import { When } from "../parts/when";
import classes from "./setup.module.css";

type Kind = "mailboxes" | "aliases";
type Line = MailboxLine | AliasLine;

const abouts = {
	mailboxes: {
		title: "Mailboxes",
		one: "mailbox",
		says: "Who has mail here. Changes take effect immediately.",
		empty: "Add the first one: an address at a local or shared domain of yours.",
		first: [
			"address",
			"name",
			"password",
			"may_submit",
			"quota",
			"addresses",
			"forward_to",
			"keep_copy",
			"automatic_reply",
		],
	},
	aliases: {
		title: "Aliases",
		one: "alias",
		says: "Addresses that pass mail on to others: a function, a group, a group of groups. Changes take effect immediately.",
		empty: "Add one for a function, like info@ or crew@.",
		first: ["address", "to", "about"],
	},
};

export const MailboxesPage = () => <Directory kind="mailboxes" from="/setup/mailboxes" />;
export const AliasesPage = () => <Directory kind="aliases" from="/setup/aliases" />;

const perPage = 100;

function Directory({ kind, from }: { kind: Kind; from: "/setup/mailboxes" | "/setup/aliases" }) {
	const about = abouts[kind];
	const search = useSearch({ from }) as { find?: string; item?: string; sort?: string };
	const navigate = useNavigate();
	const may = useMayChange();
	const [find] = useDebouncedValue(search.find ?? "", 250);
	const go = (w: { find?: string; item?: string; sort?: string }) =>
		void navigate({ to: from, search: { ...search, ...w } as never, replace: true });
	const list = useInfiniteQuery({
		queryKey: [kind, find, search.sort],
		initialPageParam: "",
		queryFn: ({ pageParam }): Promise<Page<Line>> =>
			kind === "mailboxes"
				? setup.mailboxes({ search: find, sort: search.sort, after: pageParam, limit: perPage })
				: setup.aliases({ search: find, after: pageParam, limit: perPage }),
		getNextPageParam: (last) => last.next || undefined,
	});
	if (!list.data) {
		return list.error ? <Failed error={list.error} /> : <Loading what={about.title.toLowerCase()} />;
	}
	const items: Line[] = list.data.pages.flatMap((p) => p.items);
	return (
		<Stack gap="sm">
			<Group justify="space-between" align="end">
				<div>
					<Title order={1} size="h3">
						{about.title}
					</Title>
					<Text size="sm" c="dimmed">
						{about.says}
					</Text>
				</div>
				<Group gap="xs">
					<TextInput
						size="xs"
						w={220}
						placeholder="A part of an address or a name"
						aria-label={`Find ${about.title.toLowerCase()}`}
						leftSection={<IconFilter size={14} />}
						value={search.find ?? ""}
						onChange={(e) => go({ find: e.currentTarget.value || undefined })}
					/>
					<Import kind={kind} />
					<Button
						size="xs"
						variant="default"
						component="a"
						href={`/api/v1/${kind}.csv`}
						leftSection={<IconDownload size={14} />}
					>
						CSV
					</Button>
					<Button size="xs" leftSection={<IconPlus size={14} />} disabled={!may} onClick={() => go({ item: "+" })}>
						Add
					</Button>
				</Group>
			</Group>
			<div className="surface">
				{items.length === 0 ? (
					<Nothing title={find ? "Nobody matches" : `There is no ${about.one} yet`}>
						{find ? "Take the filter away to see all." : about.empty}
					</Nothing>
				) : kind === "mailboxes" ? (
					<MailboxTable
						items={items as MailboxLine[]}
						sort={search.sort ?? "address"}
						onSort={(sort) => go({ sort: sort === "address" ? undefined : sort })}
						onOpen={(item) => go({ item })}
					/>
				) : (
					<AliasTable items={items as AliasLine[]} onOpen={(item) => go({ item })} />
				)}
			</div>
			<MoreButton query={list} label={`Show the next ${perPage}`} />
			<EntryEditor kind={kind} item={search.item} onClose={() => go({ item: undefined })} />
		</Stack>
	);
}

function MailboxTable({
	items,
	sort,
	onSort,
	onOpen,
}: {
	items: MailboxLine[];
	sort: string;
	onSort: (by: string) => void;
	onOpen: (address: string) => void;
}) {
	const head = (by: string, label: string) => (
		<UnstyledButton fz="inherit" fw="inherit" onClick={() => onSort(by)}>
			{label} {sort === by ? (by === "address" || by === "name" ? "↑" : "↓") : ""}
		</UnstyledButton>
	);
	const sorted = (by: string) =>
		sort !== by ? "none" : by === "address" || by === "name" ? ("ascending" as const) : ("descending" as const);
	return (
		<Table.ScrollContainer minWidth={980}>
			<Table verticalSpacing={5} horizontalSpacing="sm" highlightOnHover>
				<Table.Thead>
					<Table.Tr>
						<Table.Th aria-sort={sorted("address")}>{head("address", "Address")}</Table.Th>
						<Table.Th aria-sort={sorted("name")}>{head("name", "Name")}</Table.Th>
						<Table.Th ta="right">Messages</Table.Th>
						<Table.Th ta="right" aria-sort={sorted("used")}>
							{head("used", "Used")}
						</Table.Th>
						<Table.Th w={170} aria-sort={sorted("quota")}>
							{head("quota", "Quota")}
						</Table.Th>
						<Table.Th>Submits</Table.Th>
						<Table.Th>Forwards, replies</Table.Th>
						<Table.Th>Also reached as</Table.Th>
					</Table.Tr>
				</Table.Thead>
				<Table.Tbody>
					{items.map((m) => (
						<Table.Tr key={m.address}>
							<Table.Td className={classes.whole}>
								<UnstyledButton className={classes.row_button} onClick={() => onOpen(m.address)}>
									{m.address}
								</UnstyledButton>
							</Table.Td>
							<Table.Td>{m.name}</Table.Td>
							<Table.Td ta="right" className={classes.whole}>
								{count(m.messages)}
							</Table.Td>
							<Table.Td ta="right" className={classes.whole}>
								{octets(m.octets)}
							</Table.Td>
							<Table.Td>
								<Quota m={m} />
							</Table.Td>
							<Table.Td>{m.may_submit ? (m.has_password ? "yes" : "needs a password") : "no"}</Table.Td>
							<Table.Td className={classes.clip}>
								{[
									m.forward_to.length > 0 && `to ${m.forward_to.join(", ")}${m.keep_copy ? ", keeps a copy" : ""}`,
									m.replies && "replies by itself",
								]
									.filter(Boolean)
									.join("; ")}
							</Table.Td>
							<Table.Td className={classes.clip}>{[...m.addresses, ...m.generated].map(soft).join(", ")}</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
		</Table.ScrollContainer>
	);
}

function Quota({ m }: { m: MailboxLine }) {
	if (m.quota === 0) {
		return (
			<Text span size="sm" c="dimmed">
				no limit
			</Text>
		);
	}
	const part = (100 * m.octets) / m.quota;
	return (
		<Group gap={6} wrap="nowrap">
			<Bar
				value={part}
				w={60}
				color={part >= 95 ? "buoy" : part >= 80 ? "brass" : "kelp"}
				aria-label={`${Math.round(part)} percent of the quota`}
			/>
			<Text span size="xs" className={classes.whole}>
				{Math.round(part)} % of {octets(m.quota)}
			</Text>
		</Group>
	);
}

function AliasTable({ items, onOpen }: { items: AliasLine[]; onOpen: (address: string) => void }) {
	return (
		<Table verticalSpacing={5} horizontalSpacing="sm" highlightOnHover>
			<Table.Thead>
				<Table.Tr>
					<Table.Th>Address</Table.Th>
					<Table.Th>To</Table.Th>
					<Table.Th>What for</Table.Th>
				</Table.Tr>
			</Table.Thead>
			<Table.Tbody>
				{items.map((a) => (
					<Table.Tr key={a.address}>
						<Table.Td>
							<UnstyledButton className={classes.row_button} onClick={() => onOpen(a.address)}>
								{soft(a.address)}
							</UnstyledButton>
						</Table.Td>
						<Table.Td>{a.to.map(soft).join(", ")}</Table.Td>
						<Table.Td>{a.about}</Table.Td>
					</Table.Tr>
				))}
			</Table.Tbody>
		</Table>
	);
}

/** What a new entry's form is made of, before there is one to ask for. */
const blank: Record<Kind, Field[]> = {
	mailboxes: [
		{ name: "address", type: "text", form: "address", required: true },
		{ name: "name", type: "text", doc: "Of the person: addresses are generated from it" },
		{ name: "password", type: "text", doc: "Of it hashes are kept" },
		{ name: "may_submit", type: "yes_no", doc: "May sign in and send" },
		{ name: "quota", type: "text", form: "size", doc: "Not limited if not given" },
		{ name: "addresses", type: "list", form: "address", doc: "Further ones under which it is reached" },
	],
	aliases: [
		{ name: "address", type: "text", form: "address", required: true },
		{ name: "to", type: "list", form: "address", required: true, doc: "One or many; other aliases too" },
		{ name: "about", type: "text", doc: "What it is for" },
	],
};

function EntryEditor({ kind, item, onClose }: { kind: Kind; item?: string; onClose: () => void }) {
	const adding = item === "+";
	const entry = useQuery({
		queryKey: [kind, "entry", item],
		queryFn: () => setup.entry(kind, item as string),
		enabled: !!item && !adding,
	});
	const about = abouts[kind];
	const opened = adding || (!!item && !!entry.data);
	const whole = (v: Record<string, unknown>) => {
		// A field that was emptied is taken out.
		const gone = Object.fromEntries(Object.keys(entry.data?.fields ?? {}).map((k) => [k, null]));
		return { ...gone, ...v };
	};
	const done = (text: string) => () => notifications.show({ color: "kelp", message: text });
	return (
		<Editor
			opened={opened}
			onClose={onClose}
			title={adding ? `A new ${about.one}` : `${about.one}: ${item}`}
			fields={adding ? blank[kind] : (entry.data?.about ?? []).filter((f) => f.name !== "address")}
			first={about.first}
			initial={
				adding ? {} : Object.fromEntries(Object.entries(entry.data?.fields ?? {}).filter(([k]) => k !== "address"))
			}
			note="It takes effect immediately, and is on record."
			check={(v) => (adding ? setup.addEntry(kind, v, true) : setup.changeEntry(kind, item as string, whole(v), true))}
			save={(v) =>
				adding
					? setup.addEntry(kind, v).then(done(`${v.address} is there.`))
					: setup.changeEntry(kind, item as string, whole(v)).then(done(`${item} is changed.`))
			}
			remove={adding ? undefined : () => setup.removeEntry(kind, item as string).then(done(`${item} is removed.`))}
		>
			{entry.data && !adding && <Known kind={kind} address={item as string} generated={entry.data.generated} />}
		</Editor>
	);
}

/** Known is what else there is to know of an entry: its messages and its record. */
function Known({ kind, address, generated }: { kind: Kind; address: string; generated: string[] }) {
	const changes = useQuery({ queryKey: ["changes", address], queryFn: () => setup.changes(address) });
	return (
		<div>
			{generated.length > 0 && (
				<Text size="sm">
					Reached as <b>{generated.join(", ")}</b> too, made from the name.
				</Text>
			)}
			{kind === "mailboxes" && (
				<Anchor component={Link} to="/messages" search={{ to: address } as never} size="sm">
					Messages to this mailbox
				</Anchor>
			)}
			{(changes.data?.items ?? []).slice(0, 5).map((c) => (
				<Text key={c.id} size="xs" c="dimmed">
					<When time={c.at} /> {c.who} {c.before ? (c.after ? "changed" : "removed") : "added"}{" "}
					{c.before && c.after
						? Object.keys({ ...c.before, ...c.after })
								.filter((k) => words(c.before?.[k]) !== words(c.after?.[k]))
								.map((k) => `${k}: ${words(c.before?.[k]) || "–"} → ${words(c.after?.[k]) || "–"}`)
								.join("; ")
						: ""}
				</Text>
			))}
		</div>
	);
}

/** Import reads a CSV first without changing anything, and says what it would do. */
function Import({ kind }: { kind: Kind }) {
	const [csv, setCSV] = useState<{ name: string; text: string } | null>(null);
	const [progress, setProgress] = useState<Progress | null>(null);
	const [result, setResult] = useState<Imported | null>(null);
	const [fault, setFault] = useState("");
	const client = useQueryClient();
	const may = useMayChange();
	const rows = csv ? Math.max(csv.text.split("\n").length - 2, 1) : 1;
	const run = (text: string, dry: boolean) => {
		setFault("");
		setProgress({ done: 0 });
		setup
			.importEntries(kind, text, dry, setProgress)
			.then((r) => {
				setResult(r);
				if (r.written) {
					void client.invalidateQueries();
				}
			})
			.catch((e: Error) => setFault(e.message))
			.finally(() => setProgress(null));
	};
	return (
		<>
			<FileButton
				accept=".csv,text/csv"
				onChange={(file) => {
					if (file) {
						void file.text().then((text) => {
							setCSV({ name: file.name, text });
							setResult(null);
							run(text, true);
						});
					}
				}}
			>
				{(props) => (
					<Button {...props} size="xs" variant="default" leftSection={<IconUpload size={14} />} disabled={!may}>
						Import
					</Button>
				)}
			</FileButton>
			{(progress || result || fault) && (
				<Alert
					w="100%"
					color={fault || result?.problems.length ? "buoy" : "kelp"}
					title={csv?.name}
					withCloseButton
					closeButtonLabel="Close"
					onClose={() => {
						setResult(null);
						setFault("");
						setCSV(null);
					}}
				>
					{progress && <Bar value={(100 * (progress.done ?? 0)) / rows} aria-label="Progress of the import" />}
					{progress && (
						<Text size="xs">
							{count(progress.done ?? 0)} rows {progress.what}
						</Text>
					)}
					{fault && <Text size="sm">{fault}</Text>}
					{result && !progress && (
						<>
							<Text size="sm">
								{count(result.rows)} rows: {count(result.new)} new, {count(result.changed)} changed,{" "}
								{count(result.unchanged)} as they are.{" "}
								{result.written
									? "They are written."
									: result.problems.length > 0
										? "Nothing is changed until these are fixed:"
										: "Nothing is changed yet."}
							</Text>
							{result.problems.map((p) => (
								<Text key={`${p.line}${p.field}${p.text}`} size="sm">
									Line {p.line}, {p.field}: {p.text}
								</Text>
							))}
							{!result.written && result.problems.length === 0 && csv && (
								<Button size="xs" mt="xs" onClick={() => run(csv.text, false)}>
									Write {count(result.new + result.changed)} rows
								</Button>
							)}
						</>
					)}
				</Alert>
			)}
		</>
	);
}
