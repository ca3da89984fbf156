import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Checkbox, Group, Modal, Select, Stack, Text, TextInput } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useMemo, useState } from "react";
import { type HeldItem, type HeldWords, held } from "../api/held";
import { Act } from "../parts/act";
import type { Column } from "../parts/columns";
import { CSV } from "../parts/csv";
import { FilterText } from "../parts/filter";
import { Heading } from "../parts/heading";
import { type Choice, List, none } from "../parts/list";
import { useMayWork } from "../parts/may";
import { usePages } from "../parts/pages";
import { RowTo } from "../parts/row-to";
import { Nothing } from "../parts/states";
import { count, octets, plural } from "../parts/text";
import { To } from "../parts/to";
import { When } from "../parts/when";

/** What gates, the score, identity and people hold: why, and what becomes of it. */
export function HeldPage() {
	const words = useSearch({ from: "/held" });
	const navigate = useNavigate();
	const set = (change: HeldWords) => void navigate({ to: "/held", search: { ...words, ...change }, replace: true });
	const name = JSON.stringify(words);
	const [chosen, setChosen] = useState<{ name: string; choice: Choice }>({ name, choice: none });
	const choice = chosen.name === name ? chosen.choice : none;
	const pages = usePages(["held", words], (after, limit) => held.list(words, after, limit), { rowKey: keyOf });
	const columns = useMemo(columnsOf, []);
	const ids = choice.all ? [] : [...choice.keys];
	// One step takes so many at most; what is left is chosen in the next.
	const all = async () => {
		const page = await held.list(words, "", atOnce);
		setChosen({ name, choice: { all: false, keys: new Set(page.items.map(keyOf)) } });
		if (page.next) {
			notifications.show({ message: t`The newest ${count(atOnce)} are chosen; choose again for the rest.` });
		}
	};
	return (
		<Stack gap="sm">
			<Group justify="space-between" align="start">
				<div>
					<Heading>
						<Trans>Held messages</Trans>
					</Heading>
					<Text size="sm" c="dimmed">
						<Trans>They wait for a person, and come to an end by themselves after the time in the settings.</Trans>
					</Text>
				</div>
				<To to="/reputation" size="sm">
					<Trans>Who sends: reputation</Trans>
				</To>
			</Group>
			<Group gap="xs">
				<Select
					size="xs"
					w={150}
					aria-label={t`Held by`}
					placeholder={t`Held by anyone`}
					clearable
					data={[
						{ value: "gate", label: t`a gate` },
						{ value: "score", label: t`the score` },
						{ value: "identity", label: t`identity` },
						{ value: "limit", label: t`a limit` },
						{ value: "person", label: t`a person` },
						{ value: "other", label: t`another cause` },
					]}
					value={words.by ?? null}
					onChange={(by) => set({ by: by ?? undefined })}
				/>
				<FilterText label={t`Gate or person`} value={words.name} onChange={(name) => set({ name })} />
				<Select
					size="xs"
					w={150}
					aria-label={t`Severity`}
					placeholder={t`Any severity`}
					clearable
					data={["minor", "serious", "critical"]}
					value={words.severity ?? null}
					onChange={(severity) => set({ severity: severity ?? undefined })}
				/>
				<FilterText label={t`Sender, recipient or subject`} value={words.find} onChange={(find) => set({ find })} />
				{ids.length > 0 && (
					<Group gap={6}>
						<Text size="sm">{plural(ids.length, t`chosen message`, t`chosen messages`)}</Text>
						<Release ids={ids} />
						<Act verb="return" words={{ state: "held", delivery: ids }} label={t`Send back`} />
						<Act verb="drop" words={{ state: "held", delivery: ids }} label={t`Drop`} />
					</Group>
				)}
			</Group>
			<List
				name="held"
				label={t`Held messages`}
				words={[t`message`, t`messages`]}
				columns={columns}
				pages={pages}
				rowKey={keyOf}
				opens={(h) => ({ to: "/messages/$id", params: { id: h.message_id }, search: { message: "text" } })}
				foot={<CSV path="held.csv" words={words} file="held.csv" />}
				choice={choice}
				onChoice={(c) => (c.all ? void all() : setChosen({ name, choice: c }))}
				above={230}
				empty={
					<Nothing title={t`Nothing is held`}>
						<Trans>What gates, the score, identity or people hold stands here until somebody has looked.</Trans>
					</Nothing>
				}
			/>
		</Stack>
	);
}

/** Why it is held, without the word that the column says already. */
const why = (h: HeldItem) =>
	[`gate ${h.name}: `, `${h.name}: `].reduce(
		(text, start) => (text.startsWith(start) ? text.slice(start.length) : text),
		h.why.replace(/^held(:| by)? /, ""),
	);

const atOnce = 1000;

const keyOf = (h: HeldItem) => h.id;

const columnsOf = (): Column<HeldItem>[] => [
	{ key: "since", title: t`Since`, width: 115, cell: (h) => <When time={h.since} /> },
	{
		key: "sender",
		title: t`From`,
		width: 160,
		grow: 2,
		text: (h) => h.sender,
		cell: (h) => <span className="mono">{h.sender || "<>"}</span>,
	},
	{
		key: "subject",
		title: t`Subject`,
		width: 160,
		grow: 3,
		text: (h) => h.subject,
		cell: (h) => (
			<RowTo to="/messages/$id" params={{ id: h.message_id }} search={{ message: "text" }}>
				{h.subject || t`(no subject)`}
			</RowTo>
		),
	},
	{
		key: "recipient",
		title: t`To`,
		width: 160,
		grow: 2,
		text: (h) => h.recipient,
		cell: (h) => <span className="mono">{h.recipient}</span>,
	},
	{
		key: "by",
		title: t`Held by`,
		width: 150,
		grow: 1,
		text: (h) => `${h.by} ${h.name ?? ""}`,
		cell: (h) => (h.name ? `${h.by} ${h.name}` : h.by),
	},
	{ key: "why", title: t`Why`, width: 220, grow: 3, text: why, cell: why },
	{ key: "severity", title: t`Severity`, width: 80, cell: (h) => (h.severity === "none" ? "–" : h.severity) },
	{ key: "score", title: t`Score`, width: 60, right: true, cell: (h) => h.score ?? "–" },
	{ key: "size", title: t`Size`, extra: true, width: 70, right: true, cell: (h) => octets(h.size) },
	{
		key: "expires",
		title: t`Ends`,
		width: 85,
		cell: (h) => (h.expires_at ? <When time={h.expires_at} /> : "–"),
	},
	{
		key: "client",
		title: t`Client`,
		width: 120,
		extra: true,
		text: (h) => h.client_address,
		cell: (h) => h.client_address,
	},
	{ key: "id", title: t`Id`, width: 150, extra: true, text: (h) => h.id, cell: (h) => h.id },
];

/** Release lets what is chosen go on, as one says. */
function Release({ ids }: { ids: string[] }) {
	const may = useMayWork();
	const client = useQueryClient();
	const [open, setOpen] = useState(false);
	const [allow, setAllow] = useState<string | null>(null);
	const [plain, setPlain] = useState(false);
	const [why, setWhy] = useState("");
	const release = useMutation({
		mutationFn: () =>
			held.release({
				delivery: ids,
				allow_sender: allow ?? undefined,
				without_attachments: plain || undefined,
				why: why || undefined,
			}),
		onSuccess: (d) => {
			setOpen(false);
			notifications.show({ color: "kelp", message: d.text });
			void client.invalidateQueries({ queryKey: ["held"] });
		},
		onError: (e) => notifications.show({ color: "buoy", title: t`Nothing was released`, message: e.message }),
	});
	return (
		<>
			<Button size="xs" disabled={!may} onClick={() => setOpen(true)}>
				<Trans>Release…</Trans>
			</Button>
			<Modal opened={open} onClose={() => setOpen(false)} title={t`Let them go on`} size="sm">
				<form
					onSubmit={(e) => {
						e.preventDefault();
						release.mutate();
					}}
				>
					<Stack gap="sm">
						<Text size="sm">{plural(ids.length, t`held message goes on`, t`held messages go on`)}</Text>
						<Select
							size="xs"
							label={t`Their senders`}
							description={t`Allowed, they are not weighed; it counts where SPF or DMARC proves them.`}
							placeholder={t`stay as they are`}
							clearable
							data={[
								{ value: "30d", label: t`are allowed for 30 days` },
								{ value: "for good", label: t`are allowed for good` },
							]}
							value={allow}
							onChange={setAllow}
						/>
						<Checkbox
							size="xs"
							label={t`Without their attachments`}
							description={t`A note stands in their place; the original stays on record.`}
							checked={plain}
							onChange={(e) => setPlain(e.currentTarget.checked)}
						/>
						<TextInput
							size="xs"
							label={t`Why (stands in the log)`}
							value={why}
							onChange={(e) => setWhy(e.currentTarget.value)}
							data-autofocus
						/>
						<Group justify="end">
							<Button size="xs" type="submit" loading={release.isPending}>
								<Trans>Release</Trans>
							</Button>
						</Group>
					</Stack>
				</form>
			</Modal>
		</>
	);
}
