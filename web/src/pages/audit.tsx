import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Group, Stack, Text } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useMemo } from "react";
import { type Deed, type DeedWords, people } from "../api/people";
import type { Column } from "../parts/columns";
import { CSV } from "../parts/csv";
import { FilterText } from "../parts/filter";
import { Heading } from "../parts/heading";
import { List } from "../parts/list";
import { useMay } from "../parts/may";
import { usePages } from "../parts/pages";
import { Nothing } from "../parts/states";
import { count } from "../parts/text";
import { When } from "../parts/when";

/** Who did what. */
export function AuditPage() {
	const may = useMay("audit");
	return may ? (
		<Deeds />
	) : (
		<Nothing title={t`This is for administrators and auditors`}>
			<Trans>Your role does not show who did what.</Trans>
		</Nothing>
	);
}

function Deeds() {
	const words = useSearch({ from: "/setup/audit" });
	const navigate = useNavigate();
	const set = (change: DeedWords) =>
		void navigate({ to: "/setup/audit", search: { ...words, ...change }, replace: true });
	const pages = usePages(["audit", words], (after, limit) => people.deeds(words, after, limit), { rowKey: keyOf });
	const columns = useMemo(columnsOf, []);
	const verify = useMutation({ mutationFn: people.verify });
	return (
		<Stack gap="sm">
			<Group justify="space-between" align="start">
				<div>
					<Heading>
						<Trans>Audit log</Trans>
					</Heading>
					<Text size="sm" c="dimmed">
						<Trans>Who did what, also what was refused. Each entry is sealed to the one before it.</Trans>
					</Text>
				</div>
				<Button size="xs" variant="default" loading={verify.isPending} onClick={() => verify.mutate()}>
					<Trans>Was it altered?</Trans>
				</Button>
			</Group>
			{verify.error && (
				<Alert color="buoy" role="alert" p="xs">
					{verify.error.message}
				</Alert>
			)}
			{verify.data && (
				<Alert
					color={verify.data.broken ? "buoy" : "kelp"}
					role="alert"
					p="xs"
					title={
						verify.data.broken
							? t`Altered at entry ${verify.data.broken}: ${verify.data.why ?? ""}`
							: t`${count(verify.data.entries)} entries were looked at: none was altered`
					}
				>
					<Text size="xs">
						<Trans>Keep its head elsewhere, to notice later when the end was cut off:</Trans>
					</Text>
					<Text size="xs" className="mono" style={{ overflowWrap: "anywhere" }}>
						{verify.data.head}
					</Text>
				</Alert>
			)}
			<Group gap="xs">
				<FilterText label={t`Who`} value={words.who} onChange={(who) => set({ who })} />
				<FilterText label={t`Action`} value={words.action} onChange={(action) => set({ action })} />
				<FilterText label={t`Done to`} value={words.target} onChange={(target) => set({ target })} />
			</Group>
			<List
				name="audit"
				label={t`Audit log`}
				words={[t`entry`, t`entries`]}
				columns={columns}
				pages={pages}
				rowKey={keyOf}
				above={260}
				foot={<CSV path="audit.csv" words={words} file="audit.csv" />}
				empty={
					<Nothing title={t`Nothing is on record`}>
						<Trans>Nobody did what you look for.</Trans>
					</Nothing>
				}
			/>
		</Stack>
	);
}

const keyOf = (d: Deed) => String(d.id);

const went = (d: Deed) =>
	d.status < 300
		? t`done`
		: d.status === 401 || d.status === 403
			? t`not allowed`
			: d.status < 500
				? t`refused`
				: t`failed`;

/** A value in words. */
const flat = (v: unknown): string =>
	v === null || v === undefined
		? "–"
		: Array.isArray(v)
			? v.map(flat).join(", ")
			: typeof v === "object"
				? Object.entries(v)
						.map(([k, x]) => `${k} ${flat(x)}`)
						.join("; ")
				: String(v);

type Changed = { name: string; before: Record<string, unknown> | null; after: Record<string, unknown> | null };

/** What was changed, field by field, or what was asked for. */
const detail = (d: Deed) => {
	const { asked, changed } = (d.detail ?? {}) as { asked?: unknown; changed?: Changed[] };
	const fields = (changed ?? []).flatMap((c) =>
		[...new Set([...Object.keys(c.before ?? {}), ...Object.keys(c.after ?? {})])]
			.map((k) => [k, flat(c.before?.[k]), flat(c.after?.[k])])
			.filter(([, before, after]) => before !== after)
			.map(([k, before, after]) => `${k}: ${before} → ${after}`),
	);
	return fields.length > 0 ? fields.join("; ") : asked ? flat(asked) : "";
};

const columnsOf = (): Column<Deed>[] => [
	{ key: "at", title: t`When`, width: 100, cell: (d) => <When time={d.at} /> },
	{ key: "who", title: t`Who`, width: 110, text: (d) => d.who, cell: (d) => d.who },
	{
		key: "client",
		title: t`From`,
		width: 110,
		text: (d) => d.client,
		cell: (d) => <span className="mono">{d.client}</span>,
	},
	{ key: "action", title: t`Action`, width: 185, text: (d) => d.action, cell: (d) => d.action },
	{ key: "target", title: t`Done to`, width: 200, grow: 1, text: (d) => d.target, cell: (d) => d.target },
	{ key: "went", title: t`Went`, width: 100, cell: (d) => (d.status < 300 ? went(d) : <b>{went(d)}</b>) },
	{ key: "why", title: t`Why`, width: 140, grow: 1, text: (d) => d.why ?? "", cell: (d) => d.why },
	{
		key: "detail",
		title: t`Detail`,
		width: 180,
		grow: 2,
		text: detail,
		cell: detail,
	},
	{ key: "role", title: t`Role`, width: 110, extra: true, cell: (d) => d.role },
	{ key: "id", title: t`Entry`, width: 80, right: true, extra: true, cell: (d) => d.id },
];
