import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Group, Select } from "@mantine/core";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useMemo } from "react";
import { type Session, type SessionWords, tracing } from "../api/trace";
import type { Column } from "../parts/columns";
import { CSV } from "../parts/csv";
import { FilterText } from "../parts/filter";
import { List } from "../parts/list";
import { usePages } from "../parts/pages";
import { RowTo } from "../parts/row-to";
import { State } from "../parts/state";
import { Nothing } from "../parts/states";
import { count, octets } from "../parts/text";
import { Watches } from "../parts/watch";
import { When } from "../parts/when";

/** SMTP and LMTP sessions in and out, newest first; open ones on top. */
export function SessionsView() {
	const search = useSearch({ from: "/trace" });
	const navigate = useNavigate();
	const set = (change: SessionWords) =>
		void navigate({ to: "/trace", search: { ...search, ...change }, replace: true });
	const words: SessionWords = {
		direction: search.direction,
		peer: search.peer,
		outcome: search.outcome,
		longer: search.longer,
		listener: search.listener,
		route: search.route,
		sort: search.sort,
		archive: search.archive,
	};
	const pages = usePages(["sessions", words], (after, limit) => tracing.sessions(words, after, limit), {
		rowKey: sessionKey,
		past: () => words.archive !== undefined,
	});
	const columns = useMemo(() => columnsOf(words.archive), [words.archive]);
	return (
		<>
			<Group gap="xs">
				<Select
					size="xs"
					w={120}
					aria-label={t`Direction`}
					placeholder={t`In and out`}
					clearable
					data={["in", "out"]}
					value={search.direction ?? null}
					onChange={(v) => set({ direction: v ?? undefined })}
				/>
				<FilterText label={t`Peer: address or name`} value={search.peer} onChange={(peer) => set({ peer })} />
				<Select
					size="xs"
					w={150}
					aria-label={t`Outcome`}
					placeholder={t`Any outcome`}
					clearable
					data={["trouble", "passed", "partly", "refused", "idle", "broken", "open"]}
					value={search.outcome ?? null}
					onChange={(v) => set({ outcome: v ?? undefined })}
				/>
				<FilterText label={t`Longer than, like 30s`} value={search.longer} onChange={(longer) => set({ longer })} />
				<Select
					size="xs"
					w={150}
					aria-label={t`Order`}
					data={[
						{ value: "time", label: t`newest first` },
						{ value: "duration", label: t`longest first` },
						{ value: "bytes", label: t`largest first` },
						{ value: "messages", label: t`most messages first` },
					]}
					value={search.sort ?? "time"}
					onChange={(v) => set({ sort: v === "time" || v === null ? undefined : v })}
				/>
				{search.archive === undefined && <Watches />}
			</Group>
			<List
				name="sessions"
				label={t`Sessions`}
				words={[t`session`, t`sessions`]}
				columns={columns}
				pages={pages}
				rowKey={sessionKey}
				opens={(s) => ({ to: "/sessions/$id", params: { id: s.id }, search: { archive: search.archive } })}
				above={200}
				foot={<CSV path="sessions.csv" words={words} file="sessions.csv" />}
				empty={
					<Nothing title={t`No session matches`}>
						<Trans>Sessions are kept as long as messages are.</Trans>
					</Nothing>
				}
			/>
		</>
	);
}

const sessionKey = (s: Session) => s.id;

const columnsOf = (archive: number | undefined): Column<Session>[] => [
	{ key: "started_at", title: t`Began`, width: 90, cell: (s) => <When time={s.started_at} /> },
	{ key: "seconds", title: t`Lasted`, width: 75, right: true, cell: (s) => lasted(s.seconds) },
	{
		key: "path",
		title: t`Path`,
		width: 120,
		grow: 1,
		text: (s) => `${s.direction === "in" ? t`in at` : t`out by`} ${s.listener || s.route}`,
		cell: (s) => `${s.direction === "in" ? t`in at` : t`out by`} ${s.listener || s.route}`,
	},
	{
		key: "peer",
		title: t`Peer`,
		width: 200,
		grow: 3,
		text: (s) => `${s.name} [${s.address}]`,
		cell: (s) => (
			<RowTo to="/sessions/$id" params={{ id: s.id }} search={{ archive }}>
				<span className="mono">
					{s.name || "–"} [{s.address}]
				</span>
			</RowTo>
		),
	},
	{ key: "tls", title: t`TLS`, width: 60, cell: (s) => (s.tls ? s.tls.slice(4, 7) : "–") },
	{
		key: "account",
		title: t`Account`,
		width: 95,
		grow: 1,
		text: (s) => s.account,
		cell: (s) => (s.account ? <span className="mono">{s.account}</span> : "–"),
	},
	{ key: "messages", title: t`Messages`, width: 82, right: true, cell: (s) => count(s.message_count) },
	{ key: "refused", title: t`Refused`, width: 75, right: true, cell: (s) => count(s.refused) },
	{ key: "bytes", title: t`Size`, width: 75, right: true, cell: (s) => octets(s.bytes_in + s.bytes_out) },
	{ key: "outcome", title: t`Outcome`, width: 100, cell: (s) => <State state={s.outcome} /> },
	{
		key: "ended",
		title: t`Ended because`,
		width: 130,
		grow: 2,
		text: (s) => s.ended || t`it is open`,
		cell: (s) => s.ended || t`it is open`,
	},
	{ key: "id", title: t`Id`, width: 135, extra: true, text: (s) => s.id, cell: (s) => s.id },
];

/** lasted writes a duration of a session. */
export function lasted(seconds: number): string {
	if (seconds < 1) {
		return t`${Math.round(seconds * 1000)} ms`;
	}
	return seconds < 120 ? `${seconds.toFixed(1)} s` : t`${Math.round(seconds / 60)} min`;
}
