import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Group, Modal, SegmentedControl, Stack, Text, TextInput, UnstyledButton } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { type BoxItem, boxes } from "../api/boxes";
import { type MailboxLine, type Page, setup } from "../api/setup";
import { AppPasswords, protocols } from "../parts/app-passwords";
import type { Column } from "../parts/columns";
import { ContentShown } from "../parts/content-shown";
import { Heading } from "../parts/heading";
import { List } from "../parts/list";
import { useMay, useMayChange } from "../parts/may";
import { usePages } from "../parts/pages";
import { Failed, Loading, Nothing } from "../parts/states";
import { count, octets } from "../parts/text";
import { To } from "../parts/to";
import { When } from "../parts/when";
import classes from "./box.module.css";

const from = "/setup/mailboxes/$address";

/** BoxPage is one mailbox: how it is used, what lies in it, and the passwords of its programs. */
export function BoxPage() {
	const { address } = useParams({ from });
	const search = useSearch({ from }) as { folder?: string; message?: string };
	const navigate = useNavigate();
	const go = (w: { folder?: string; message?: string }) =>
		void navigate({ to: from, params: { address }, search: { ...search, ...w }, replace: true, resetScroll: false });
	const line = useQuery({
		queryKey: ["mailboxes", "one", address],
		queryFn: async () =>
			(await setup.mailboxes({ search: address, limit: 20 })).items.find((m) => m.address === address),
	});
	return (
		<Stack gap="sm">
			<Group justify="space-between" align="end">
				<div>
					<Heading>{address}</Heading>
					{line.data && <Facts m={line.data} />}
				</div>
				<Group gap="sm">
					<To to="/setup/mailboxes" search={{ item: address }} size="sm">
						<Trans>Change it</Trans>
					</To>
					<To to="/messages" search={{ to: address }} size="sm">
						<Trans>Messages to it, with their way</Trans>
					</To>
				</Group>
			</Group>
			<div className={classes.halves}>
				<Folders address={address} chosen={search.folder} onChoose={(folder) => go({ folder })} />
				<div className={classes.messages}>
					<Messages address={address} folder={search.folder} onOpen={(m) => go({ message: m.id })} />
				</div>
			</div>
			<Look address={address} id={search.message} onClose={() => go({ message: undefined })} />
			<Apps address={address} />
		</Stack>
	);
}

function Facts({ m }: { m: MailboxLine }) {
	return (
		<Text size="sm" c="dimmed">
			{m.name && `${m.name} · `}
			{m.quota > 0 ? t`${octets(m.octets)} of ${octets(m.quota)} used` : t`${octets(m.octets)} used, no limit`}
			{" · "}
			{m.last_use.length === 0 ? (
				<Trans>nobody has signed in yet</Trans>
			) : (
				m.last_use.map((u, i) => (
					<span key={u.protocol}>
						{i > 0 && ", "}
						{protocols[u.protocol]} <When time={u.at} /> <Trans>from {u.client}</Trans>
					</span>
				))
			)}
		</Text>
	);
}

function Folders(p: { address: string; chosen?: string; onChoose: (folder?: string) => void }) {
	const list = useQuery({ queryKey: ["mailboxes", "folders", p.address], queryFn: () => boxes.folders(p.address) });
	if (list.error) {
		return <Failed error={list.error} />;
	}
	if (!list.data) {
		return <Loading what={t`the folders`} />;
	}
	return (
		<nav className={`surface ${classes.folders}`} aria-label={t`Folders`}>
			<UnstyledButton
				className={classes.folder}
				aria-current={!p.chosen ? "true" : undefined}
				onClick={() => p.onChoose(undefined)}
			>
				<Trans>All folders</Trans>
			</UnstyledButton>
			{list.data.items.map((f) => (
				<UnstyledButton
					key={f.name}
					className={classes.folder}
					aria-current={p.chosen === f.name ? "true" : undefined}
					style={{ paddingLeft: 12 + 14 * (f.name.split("/").length - 1) }}
					onClick={() => p.onChoose(f.name)}
				>
					<span>{f.name === "INBOX" ? t`Inbox` : f.name.split("/").at(-1)}</span>
					<Text span size="xs" c="dimmed" ta="right">
						{f.unseen > 0 ? t`${count(f.unseen)} unread of ${count(f.messages)}` : count(f.messages)}
					</Text>
				</UnstyledButton>
			))}
		</nav>
	);
}

/** The flags of a message in words (RFC 9051 section 2.3.2); what programs made up stays as it is. */
function flagWords(flags: string[]): string {
	const words: Record<string, string> = {
		"\\Answered": t`answered`,
		"\\Flagged": t`flagged`,
		"\\Draft": t`a draft`,
		"\\Deleted": t`deleted`,
	};
	const read = flags.includes("\\Seen") ? t`read` : t`unread`;
	return [read, ...flags.filter((f) => f !== "\\Seen").map((f) => words[f] ?? f)].join(", ");
}

const columns: Column<BoxItem>[] = [
	{
		key: "received",
		title: t`Received`,
		width: 120,
		text: (m) => m.received_at,
		cell: (m) => <When time={m.received_at} />,
	},
	{ key: "sender", title: t`From`, width: 200, grow: 2, text: (m) => m.sender, cell: (m) => m.sender || "<>" },
	{ key: "subject", title: t`Subject`, width: 240, grow: 4, text: (m) => m.subject, cell: (m) => m.subject },
	{
		key: "folder",
		title: t`Folder`,
		width: 110,
		grow: 1,
		text: (m) => m.folder,
		cell: (m) => (m.folder === "INBOX" ? t`Inbox` : m.folder),
	},
	{
		key: "flags",
		title: t`Flags`,
		width: 110,
		text: (m) => m.flags.join(" "),
		cell: (m) => flagWords(m.flags),
	},
	{ key: "size", title: t`Size`, width: 80, right: true, cell: (m) => octets(m.size) },
];

function Messages(p: { address: string; folder?: string; onOpen: (m: BoxItem) => void }) {
	const pages = usePages<BoxItem, Page<BoxItem>>(
		["mailboxes", "messages", p.address, p.folder],
		(after, limit) => boxes.messages(p.address, { folder: p.folder, after, limit }),
		{ rowKey: (m) => m.id },
	);
	return (
		<List<BoxItem, Page<BoxItem>>
			name="box"
			label={t`Messages`}
			words={["message", "messages"]}
			columns={columns}
			pages={pages}
			rowKey={(m) => m.id}
			onOpen={p.onOpen}
			above={420}
			empty={<Nothing title={t`No message here`}>{t`What comes in appears in the inbox.`}</Nothing>}
		/>
	);
}

/** Look shows one message, once somebody has said why he looks. */
function Look(p: { address: string; id?: string; onClose: () => void }) {
	const may = useMay("content");
	const [why, setWhy] = useState("");
	const [given, setGiven] = useState("");
	const [view, setView] = useState("text");
	const message = useQuery({
		queryKey: ["mailboxes", "view", p.address, p.id, given],
		queryFn: () => boxes.view(p.address, p.id as string, given),
		enabled: !!p.id && given !== "",
		staleTime: Number.POSITIVE_INFINITY,
		refetchInterval: false,
	});
	return (
		<Modal
			opened={!!p.id}
			onClose={p.onClose}
			title={t`A message of ${p.address}`}
			size="xl"
			closeButtonProps={{ "aria-label": t`Close` }}
		>
			{!may ? (
				<Alert color="brass">
					<Trans>Your role may not look into messages.</Trans>
				</Alert>
			) : given === "" ? (
				<form
					onSubmit={(e) => {
						e.preventDefault();
						setGiven(why.trim());
					}}
				>
					<Stack gap="sm">
						<TextInput
							label={t`Why do you look?`}
							description={t`It goes on record with your name, and serves for this mailbox until you leave the page.`}
							value={why}
							onChange={(e) => setWhy(e.currentTarget.value)}
							maxLength={300}
							required
							data-autofocus
						/>
						<Button type="submit" size="xs" w="fit-content" disabled={why.trim() === ""}>
							<Trans>Look at it</Trans>
						</Button>
					</Stack>
				</form>
			) : (
				<Stack gap="xs">
					<SegmentedControl
						size="xs"
						w="fit-content"
						aria-label={t`What of the message`}
						value={view}
						onChange={setView}
						data={[
							{ value: "text", label: t`Text` },
							{ value: "fields", label: t`Header` },
							{ value: "raw", label: t`Header as received` },
							{ value: "parts", label: t`Structure` },
						]}
					/>
					{message.error && <Failed error={message.error} />}
					{message.data ? (
						<ContentShown message={message.data} view={view} />
					) : (
						!message.error && <Loading what={t`the message`} />
					)}
				</Stack>
			)}
		</Modal>
	);
}

function Apps({ address }: { address: string }) {
	const may = useMayChange();
	const client = useQueryClient();
	const key = ["mailboxes", "apps", address];
	const list = useQuery({ queryKey: key, queryFn: () => boxes.apps(address) });
	return (
		<AppPasswords
			items={list.data?.items ?? []}
			may={may}
			add={(name) => boxes.addApp(address, name)}
			revoke={(name) => boxes.revokeApp(address, name)}
			onChange={() => void client.invalidateQueries({ queryKey: key })}
		/>
	);
}
