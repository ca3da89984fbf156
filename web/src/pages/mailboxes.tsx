import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Progress as Bar, Button, FileButton, Group, Select, Stack, Text } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { IconDownload, IconFilter, IconPlus, IconUpload } from "@tabler/icons-react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useRef, useState } from "react";
import type { Progress } from "../api/ask";
import {
	type AliasLine,
	type Entry,
	type Field,
	type Fields,
	type Imported,
	type MailboxLine,
	type Page,
	setup,
} from "../api/setup";
import { protocols } from "../parts/app-passwords";
import type { Column } from "../parts/columns";
import { Editor } from "../parts/editor";
import { title as upper, words } from "../parts/fields";
import { FilterText } from "../parts/filter";
import { Gone } from "../parts/gone";
import { Heading } from "../parts/heading";
import { List } from "../parts/list";
import { useMayChange } from "../parts/may";
import { usePages } from "../parts/pages";
import { Nothing } from "../parts/states";
import { count, octets } from "../parts/text";
import { To } from "../parts/to";
import { When } from "../parts/when";
import classes from "./setup.module.css";

type Kind = "mailboxes" | "aliases";
type Line = MailboxLine | AliasLine;

const abouts = {
	mailboxes: {
		title: t`Mailboxes`,
		one: "mailbox",
		says: t`Who has mail here. Changes take effect immediately.`,
		empty: t`Add the first one: an address at a local or shared domain of yours.`,
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
		title: t`Aliases`,
		one: "alias",
		says: t`Addresses that pass mail on to others: a function, a group, a group of groups. Changes take effect immediately.`,
		empty: t`Add one for a function, like info@ or crew@.`,
		first: ["address", "to", "about"],
	},
};

export const MailboxesPage = () => <Directory kind="mailboxes" from="/setup/mailboxes" />;
export const AliasesPage = () => <Directory kind="aliases" from="/setup/aliases" />;

function Directory({ kind, from }: { kind: Kind; from: "/setup/mailboxes" | "/setup/aliases" }) {
	const about = abouts[kind];
	const search = useSearch({ from }) as { find?: string; item?: string; sort?: string; unused?: string };
	const navigate = useNavigate();
	const may = useMayChange();
	const find = search.find;
	const go = (w: { find?: string; item?: string; sort?: string; unused?: string }) =>
		void navigate({ to: from, search: { ...search, ...w }, replace: true });
	const pages = usePages<Line, Page<Line>>(
		[kind, { find, sort: search.sort, unused: search.unused }],
		(after, limit) =>
			kind === "mailboxes"
				? setup.mailboxes({
						search: find,
						sort: search.sort,
						unused_days: search.unused ? Number(search.unused) : undefined,
						after,
						limit,
					})
				: setup.aliases({ search: find, after, limit }),
		{ rowKey: lineKey },
	);
	return (
		<Stack gap="sm">
			<Group justify="space-between" align="end">
				<div>
					<Heading>{about.title}</Heading>
					<Text size="sm" c="dimmed">
						{about.says}
					</Text>
				</div>
				<Group gap="xs">
					<FilterText
						w={220}
						label={t`Find ${about.title.toLowerCase()}`}
						icon={<IconFilter size={14} />}
						value={search.find}
						onChange={(find) => go({ find })}
					/>
					{kind === "mailboxes" && (
						<Select
							size="xs"
							w={170}
							aria-label={t`Last use`}
							placeholder={t`Used or not`}
							clearable
							value={search.unused ?? null}
							onChange={(v) => go({ unused: v ?? undefined })}
							data={[
								{ value: "30", label: t`Unused for 30 days` },
								{ value: "90", label: t`Unused for 90 days` },
								{ value: "365", label: t`Unused for a year` },
							]}
						/>
					)}
					<Import kind={kind} />
					<Button
						size="xs"
						variant="default"
						component="a"
						href={`/api/v1/${kind}.csv`}
						leftSection={<IconDownload size={14} />}
					>
						<Trans>CSV</Trans>
					</Button>
					<Button size="xs" leftSection={<IconPlus size={14} />} disabled={!may} onClick={() => go({ item: "+" })}>
						<Trans>Add</Trans>
					</Button>
				</Group>
			</Group>
			<List<Line, Page<Line>>
				name={kind}
				label={about.title}
				words={[about.one, kind]}
				columns={(kind === "mailboxes" ? mailboxColumns : aliasColumns) as Column<Line>[]}
				pages={pages}
				rowKey={lineKey}
				onOpen={(l) => go({ item: l.address })}
				sort={kind === "mailboxes" ? { by: search.sort ?? "address", down: downFirst(search.sort) } : undefined}
				onSort={(by) => go({ sort: by === "address" ? undefined : by })}
				above={200}
				empty={
					<Nothing title={find ? t`Nobody matches` : t`There is no ${about.one} yet`}>
						{find ? t`Take the filter away to see all.` : about.empty}
					</Nothing>
				}
			/>
			{kind === "mailboxes" && <Gone may={may} />}
			<EntryEditor kind={kind} item={search.item} onClose={() => go({ item: undefined })} />
		</Stack>
	);
}

const lineKey = (l: Line) => l.address;

/** Names begin with the first, figures with the largest. */
const downFirst = (sort: string | undefined) => sort === "used" || sort === "quota";

const automatic = (m: MailboxLine) =>
	[
		m.forward_to.length > 0 && t`to ${m.forward_to.join(", ")}${m.keep_copy ? t`, keeps a copy` : ""}`,
		m.replies && t`replies by itself`,
	]
		.filter(Boolean)
		.join("; ");

const mailboxColumns: Column<MailboxLine>[] = [
	{
		key: "address",
		title: t`Address`,
		width: 210,
		grow: 3,
		sort: "address",
		text: (m) => m.address,
		cell: (m) => (
			<To
				to="/setup/mailboxes"
				search={(old) => ({ ...old, item: m.address })}
				inherit
				tabIndex={-1}
				className="cell-link"
			>
				{m.address}
			</To>
		),
	},
	{ key: "name", title: t`Name`, width: 110, grow: 1, sort: "name", text: (m) => m.name, cell: (m) => m.name },
	{ key: "messages", title: t`Messages`, width: 82, right: true, cell: (m) => count(m.messages) },
	{ key: "used", title: t`Used`, width: 78, right: true, sort: "used", down: true, cell: (m) => octets(m.octets) },
	{ key: "quota", title: t`Quota`, width: 170, sort: "quota", down: true, cell: (m) => <Quota m={m} /> },
	{
		key: "may_submit",
		title: t`Submits`,
		width: 125,
		cell: (m) => (m.may_submit ? (m.has_password ? "yes" : t`needs a password`) : "no"),
	},
	{
		key: "last_use",
		title: t`Last use`,
		width: 130,
		text: (m) => m.last_use[0]?.at ?? "",
		cell: (m) =>
			m.last_use[0] ? (
				<>
					<When time={m.last_use[0].at} /> {protocols[m.last_use[0].protocol]}
				</>
			) : (
				<Text span size="sm" c="dimmed">
					<Trans>never</Trans>
				</Text>
			),
	},
	{ key: "automatic", title: t`Forwards, replies`, width: 140, grow: 2, text: automatic, cell: automatic },
	{
		key: "addresses",
		title: t`Also reached as`,
		width: 150,
		grow: 2,
		text: (m) => [...m.addresses, ...m.generated].join(", "),
		cell: (m) => [...m.addresses, ...m.generated].join(", "),
	},
];

const aliasColumns: Column<AliasLine>[] = [
	{
		key: "address",
		title: t`Address`,
		width: 220,
		grow: 2,
		text: (a) => a.address,
		cell: (a) => (
			<To
				to="/setup/aliases"
				search={(old) => ({ ...old, item: a.address })}
				inherit
				tabIndex={-1}
				className="cell-link"
			>
				{a.address}
			</To>
		),
	},
	{ key: "to", title: t`To`, width: 220, grow: 4, text: (a) => a.to.join(", "), cell: (a) => a.to.join(", ") },
	{ key: "about", title: t`What for`, width: 160, grow: 3, text: (a) => a.about, cell: (a) => a.about },
];

function Quota({ m }: { m: MailboxLine }) {
	if (m.quota === 0) {
		return (
			<Text span size="sm" c="dimmed">
				<Trans>no limit</Trans>
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
				aria-label={t`${Math.round(part)} percent of the quota`}
			/>
			<Text span size="xs" className={classes.whole}>
				<Trans>
					{Math.round(part)} % of {octets(m.quota)}
				</Trans>
			</Text>
		</Group>
	);
}

/** What a new entry's form is made of, before there is one to ask for. */
const blank: Record<Kind, Field[]> = {
	mailboxes: [
		{ name: "address", type: "text", form: "address", required: true },
		{ name: "name", type: "text", doc: t`Of the person: addresses are generated from it` },
		{ name: "password", type: "text", doc: t`Of it hashes are kept` },
		{ name: "may_submit", type: "yes_no", doc: t`May sign in and send` },
		{ name: "quota", type: "text", form: "size", doc: t`Not limited if not given` },
		{ name: "addresses", type: "list", form: "address", doc: t`Further ones under which it is reached` },
	],
	aliases: [
		{ name: "address", type: "text", form: "address", required: true },
		{ name: "to", type: "list", form: "address", required: true, doc: t`One or many; other aliases too` },
		{ name: "about", type: "text", doc: t`What it is for` },
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
	const whole = (v: Fields, seen: Fields = entry.data?.fields ?? {}) => {
		// A field that was emptied is taken out.
		const gone = Object.fromEntries(Object.keys(seen).map((k) => [k, null]));
		return { ...gone, ...v };
	};
	const seenOf = (e: Entry | undefined) => ({
		fields: Object.fromEntries(Object.entries(e?.fields ?? {}).filter(([k]) => k !== "address")),
		mark: e?.mark ?? "",
	});
	const done = (text: string) => () => notifications.show({ color: "kelp", message: text });
	return (
		<Editor
			opened={opened}
			onClose={onClose}
			title={adding ? t`A new ${about.one}` : `${about.one}: ${item}`}
			fields={adding ? blank[kind] : (entry.data?.about ?? []).filter((f) => f.name !== "address")}
			first={about.first}
			seen={adding ? { fields: {}, mark: "" } : seenOf(entry.data)}
			now={async () => seenOf(await setup.entry(kind, item as string))}
			note={t`It takes effect immediately, and is on record.`}
			check={(v, mark) =>
				adding ? setup.addEntry(kind, v, true) : setup.changeEntry(kind, item as string, whole(v), mark, true)
			}
			save={(v, mark, seen) =>
				adding
					? setup.addEntry(kind, v).then(done(t`${String(v.address)} is there.`))
					: setup.changeEntry(kind, item as string, whole(v, seen), mark).then(done(t`${item ?? ""} is changed.`))
			}
			removal={async () => `${upper((await setup.entryRemoval(kind, item as string)).text)}.`}
			remove={
				adding ? undefined : () => setup.removeEntry(kind, item as string).then(done(t`${item ?? ""} is removed.`))
			}
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
					<Trans>
						Reached as <b>{generated.join(", ")}</b> too, made from the name.
					</Trans>
				</Text>
			)}
			{kind === "mailboxes" && (
				<Group gap="md">
					<To to="/setup/mailboxes/$address" params={{ address }} size="sm">
						<Trans>What lies in it, and app passwords</Trans>
					</To>
					<To to="/messages" search={{ to: address }} size="sm">
						<Trans>Messages to this mailbox</Trans>
					</To>
				</Group>
			)}
			{(changes.data?.items ?? []).slice(0, 5).map((c) => (
				<Text key={c.id} size="xs" c="dimmed">
					<When time={c.at} /> {c.who} {c.before ? (c.after ? t`changed` : t`removed`) : t`added`}{" "}
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
	const again = useRef<() => void>(null); // the same file may be chosen twice
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
				resetRef={again}
				accept=".csv,text/csv"
				onChange={(file) => {
					if (file) {
						void file.text().then((text) => {
							setCSV({ name: file.name, text });
							setResult(null);
							again.current?.();
							run(text, true);
						});
					}
				}}
			>
				{(props) => (
					<Button {...props} size="xs" variant="default" leftSection={<IconUpload size={14} />} disabled={!may}>
						<Trans>Import</Trans>
					</Button>
				)}
			</FileButton>
			{(progress || result || fault) && (
				<Alert
					w="100%"
					color={fault || result?.problems.length ? "buoy" : "kelp"}
					title={csv?.name}
					withCloseButton
					closeButtonLabel={t`Close`}
					onClose={() => {
						setResult(null);
						setFault("");
						setCSV(null);
					}}
				>
					{progress && <Bar value={(100 * (progress.done ?? 0)) / rows} aria-label={t`Progress of the import`} />}
					{progress && (
						<Text size="xs">
							<Trans>
								{count(progress.done ?? 0)} rows {progress.what}
							</Trans>
						</Text>
					)}
					{fault && <Text size="sm">{fault}</Text>}
					{result && !progress && (
						<>
							<Text size="sm">
								<Trans>
									{count(result.rows)} rows: {count(result.new)} new, {count(result.changed)} changed,{" "}
									{count(result.unchanged)} as they are.{" "}
									{result.written
										? t`They are written.`
										: result.problems.length > 0
											? t`Nothing is changed until these are fixed:`
											: t`Nothing is changed yet.`}
								</Trans>
							</Text>
							{result.problems.map((p) => (
								<Text key={`${p.line}${p.field}${p.text}`} size="sm">
									<Trans>
										Line {p.line}, {p.field}: {p.text}
									</Trans>
								</Text>
							))}
							{!result.written && result.problems.length === 0 && csv && (
								<Button size="xs" mt="xs" onClick={() => run(csv.text, false)}>
									<Trans>Write {count(result.new + result.changed)} rows</Trans>
								</Button>
							)}
						</>
					)}
				</Alert>
			)}
		</>
	);
}
