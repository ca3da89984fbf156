import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Progress as Bar, Button, Checkbox, Group, Stack, Table, Text, TextInput, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Refused } from "../api/ask";
import { type Change, type Group as ChangeGroup, type Draft, type Report, setup } from "../api/setup";
import { useAsk } from "../parts/ask";
import { HazardList } from "../parts/draft-bar";
import { Heading } from "../parts/heading";
import { useMayChange } from "../parts/may";
import { Severity } from "../parts/snag";
import { Failed, Loading, Nothing } from "../parts/states";
import { count, plural, shown } from "../parts/text";
import { To } from "../parts/to";
import { When } from "../parts/when";
import classes from "./setup.module.css";

/** The draft: what differs, what it would do to real mail, and putting it in force. */
export function DraftPage() {
	const draft = useQuery({ queryKey: ["draft", "yaml"], queryFn: () => setup.draft(true) });
	const [report, setReport] = useState<{ of: number; report: Report } | null>(null);
	if (!draft.data) {
		return draft.error ? <Failed error={draft.error} /> : <Loading what={t`the draft`} />;
	}
	const d = draft.data;
	if (!d.exists) {
		return (
			<div className="surface">
				<Nothing title={t`There is no draft`}>
					<Trans>
						Revision {d.in_force} is in force. What you change under Domains, Listeners, Relay rules, Routes, Peers or
						Server collects here, and counts when it is applied.
					</Trans>
				</Nothing>
			</div>
		);
	}
	const current = report?.of === d.version ? report.report : null;
	return (
		<Stack gap="sm">
			<Heading>
				<Trans>
					Draft{" "}
					<Text span c="dimmed" size="sm">
						<Trans>
							{plural(d.changes.length, t`change`, t`changes`)} to revision {d.in_force}
						</Trans>
					</Text>
				</Trans>
			</Heading>
			{d.stale && <Stale draft={d} />}
			{d.hazards.some((h) => h.blocks) && (
				<Alert color="buoy" title={t`This draft is dangerous`}>
					<HazardList hazards={d.hazards.filter((h) => h.blocks)} />
				</Alert>
			)}
			{d.hazards.some((h) => !h.blocks) && (
				<Alert color="brass" title={t`Worth knowing`}>
					<HazardList hazards={d.hazards.filter((h) => !h.blocks)} />
				</Alert>
			)}
			<Acting draft={d} report={current} onReport={(r) => setReport({ of: d.version ?? 0, report: r })} />
			{current && <Rehearsal report={current} />}
			<section className="surface" aria-labelledby="changes">
				<Title order={2} size="h5" id="changes" p="sm" pb={4}>
					<Trans>What differs</Trans>
				</Title>
				<ChangeTable changes={d.changes} />
			</section>
			<section className="surface" aria-labelledby="log">
				<Title order={2} size="h5" id="log" p="sm" pb={4}>
					<Trans>Who changed it</Trans>
				</Title>
				<Stack gap={2} px="sm" pb="sm">
					{d.log.map((l) => (
						<Text size="sm" key={l.at + l.text}>
							<When time={l.at} /> <b>{l.who}</b> {l.text}
						</Text>
					))}
				</Stack>
			</section>
			<YAML text={d.yaml ?? ""} />
		</Stack>
	);
}

function Stale({ draft }: { draft: Draft }) {
	const client = useQueryClient();
	const rebase = useMutation({
		mutationFn: setup.rebase,
		onSuccess: ({ met }) => {
			notifications.show({
				color: met.length ? "brass" : "kelp",
				title: t`The draft is made anew`,
				message: met.join(". ") || t`Nothing stood against it.`,
				autoClose: 15_000,
			});
			void client.invalidateQueries();
		},
		onError: (e) => notifications.show({ color: "buoy", title: t`Not made anew`, message: e.message }),
	});
	return (
		<Alert
			color="brass"
			title={t`Revision ${draft.in_force} came into force since this draft was begun from ${draft.base}`}
		>
			<Group gap="sm">
				<Text size="sm">
					<Trans>Make its changes anew on what is in force now, and look at them again.</Trans>
				</Text>
				<Button size="xs" loading={rebase.isPending} onClick={() => rebase.mutate()}>
					<Trans>Rebase</Trans>
				</Button>
			</Group>
		</Alert>
	);
}

/** ChangeTable tells changes in words. */
export function ChangeTable({ changes }: { changes: Change[] }) {
	const signs = { added: t`+ new`, removed: t`− taken out`, changed: t`~ changed`, moved: t`↕ moved` };
	if (changes.length === 0) {
		return (
			<Text size="sm" c="dimmed" px="sm" pb="sm">
				<Trans>Nothing but comments or form.</Trans>
			</Text>
		);
	}
	return (
		<Table verticalSpacing={4} horizontalSpacing="sm">
			<Table.Tbody>
				{changes.map((c) => (
					<Table.Tr key={c.section + c.name + c.kind}>
						<Table.Td w={110} className={classes.kind} data-tone={c.kind === "removed" ? "trouble" : undefined}>
							{signs[c.kind]}
						</Table.Td>
						<Table.Td w={230}>
							<To to="/setup/$section" params={{ section: c.section }} search={{ item: c.name }} inherit>
								{c.section === "service" ? t`server` : `${c.section.replaceAll("_", " ").replace(/s$/, "")} ${c.name}`}
							</To>
						</Table.Td>
						<Table.Td>
							{c.kind === "moved" && c.text}
							{c.fields.map((f) => (
								<div key={f.field}>
									{f.field.replaceAll("_", " ")}: {f.before && <s>{f.before}</s>} {f.after && <b>{f.after}</b>}
									{!f.after && t` (taken out)`}
								</div>
							))}
						</Table.Td>
					</Table.Tr>
				))}
			</Table.Tbody>
		</Table>
	);
}

/** numbered gives the lines of a text their numbers, which are their names. */
const numbered = (text: string) => text.split("\n").map((line, n): [number, string] => [n, line]);

/** YAML shows the difference of the texts. */
export function YAML({ text }: { text: string }) {
	if (!text) {
		return null;
	}
	return (
		<details className="surface">
			<summary style={{ padding: "8px 12px", cursor: "pointer", fontWeight: 600 }}>
				<Trans>The difference of the texts</Trans>
			</summary>
			<pre className={`mono ${classes.diff}`}>
				{numbered(text).map(([n, line]) => (
					<div
						key={n}
						className={line.startsWith("+") ? classes.plus : line.startsWith("-") ? classes.minus : undefined}
					>
						{line || " "}
					</div>
				))}
			</pre>
		</details>
	);
}

/** Acting holds the buttons: rehearse, apply, discard. */
function Acting({ draft, report, onReport }: { draft: Draft; report: Report | null; onReport: (r: Report) => void }) {
	const client = useQueryClient();
	const may = useMayChange();
	const [part, setPart] = useState(0);
	const [blocked, setBlocked] = useState<string[]>([]);
	const [why, setWhy] = useState("");
	const [confirm, setConfirm] = useState(false);
	// What stood in the way may be gone with the next change.
	// biome-ignore lint/correctness/useExhaustiveDependencies: it follows the draft's version
	useEffect(() => setBlocked([]), [draft.version]);
	const rehearse = useMutation({
		mutationFn: () => setup.rehearse(5000, (p) => setPart(p.progress ?? 0)),
		onSuccess: onReport,
		onError: (e) => notifications.show({ color: "buoy", title: t`Not rehearsed`, message: e.message }),
	});
	const apply = useMutation({
		mutationFn: (force: boolean) =>
			setup.apply({ force, why: why || undefined, confirm_within: confirm ? 300 : undefined, version: draft.version }),
		onSuccess: (a) => {
			notifications.show({
				color: a.trouble.length ? "buoy" : "kelp",
				title: t`Revision ${a.revision} is in force`,
				message: [
					a.rerouted > 0 && t`${plural(a.rerouted, t`delivery`, t`deliveries`)} that had no route are tried now.`,
					...a.trouble,
				]
					.filter(Boolean)
					.join(" "),
				autoClose: a.trouble.length ? false : 6000,
			});
			void client.invalidateQueries();
		},
		onError: (e) => {
			if (e instanceof Refused && e.status === 409 && e.rest.length > 0) {
				setBlocked(e.rest);
			} else {
				notifications.show({ color: "buoy", title: t`Not applied`, message: e.message, autoClose: 15_000 });
			}
		},
	});
	const [asking, ask] = useAsk();
	const discard = useMutation({
		mutationFn: () => setup.discard(draft.version),
		onSuccess: () => {
			void client.invalidateQueries();
			const id = notifications.show({
				autoClose: 60_000,
				message: (
					<Group gap="xs" justify="space-between">
						<Text size="sm">
							<Trans>The draft is discarded.</Trans>
						</Text>
						<Button
							size="compact-xs"
							variant="default"
							onClick={() => {
								notifications.hide(id);
								setup
									.takeBack()
									.then(() => client.invalidateQueries())
									.catch((e: Error) =>
										notifications.show({ color: "buoy", title: t`Not taken back`, message: e.message }),
									);
							}}
						>
							<Trans>Undo</Trans>
						</Button>
					</Group>
				),
			});
		},
		onError: (e) => notifications.show({ color: "buoy", title: t`Not discarded`, message: e.message }),
	});
	const dangers = blocked.length > 0 ? blocked : (report?.blocks ?? []);
	return (
		<div className="surface">
			{asking}
			<Stack gap="xs" p="sm">
				<Group gap="sm">
					<Button
						size="sm"
						variant={report ? "default" : "filled"}
						loading={rehearse.isPending}
						onClick={() => rehearse.mutate()}
					>
						<Trans>Rehearse on recent mail</Trans>
					</Button>
					<Button
						size="sm"
						variant={report ? "filled" : "default"}
						disabled={!may || draft.stale || dangers.length > 0}
						loading={apply.isPending}
						onClick={() => apply.mutate(false)}
					>
						<Trans>Apply</Trans>
					</Button>
					<Checkbox
						size="xs"
						label={t`Go back by itself after 5 minutes unless I confirm`}
						checked={confirm}
						onChange={(e) => setConfirm(e.currentTarget.checked)}
					/>
					<Button
						size="sm"
						variant="subtle"
						color="buoy"
						ml="auto"
						disabled={!may}
						loading={discard.isPending}
						onClick={() =>
							ask({
								title: t`Discard the draft?`,
								text: t`${plural(draft.changes.length, t`change`, t`changes`)} by ${
									[...new Set((draft.log ?? []).map((l) => l.who))].join(" and ") || t`you`
								} are forgotten. What is in force stays as it is.`,
								yes: t`Discard it`,
								act: () => discard.mutate(),
							})
						}
					>
						<Trans>Discard</Trans>
					</Button>
				</Group>
				{rehearse.isPending && <Bar value={100 * part} aria-label={t`Progress of the rehearsal`} />}
				{dangers.length > 0 && (
					<Alert color="buoy" title={t`It is applied only by force, with a reason`}>
						{dangers.map((b) => (
							<Text key={b} size="sm">
								{b}
							</Text>
						))}
						<Group mt="xs" gap="xs">
							<TextInput
								size="xs"
								w={360}
								placeholder={t`Why it must be so`}
								aria-label={t`Reason`}
								value={why}
								onChange={(e) => setWhy(e.currentTarget.value)}
							/>
							<Button
								size="xs"
								color="buoy"
								disabled={!may || why.trim() === ""}
								loading={apply.isPending}
								onClick={() => apply.mutate(true)}
							>
								<Trans>Apply all the same</Trans>
							</Button>
						</Group>
					</Alert>
				)}
			</Stack>
		</div>
	);
}

const kinds: Record<ChangeGroup["kind"], [string, string]> = {
	newly_refused: [t`▲ newly refused`, "trouble"],
	newly_held: [t`◐ newly held`, "waits"],
	newly_allowed: [t`▲ newly allowed`, "trouble"],
	newly_stranded: [t`▲ newly stranded`, "trouble"],
	less_tls: [t`▲ less TLS`, "trouble"],
	other_way: [t`◐ another route`, "waits"],
	other_gates: [t`◐ other gates`, "waits"],
	other_rule: [t`by another rule`, ""],
};

/** Rehearsal is what the draft would change, the gravest first. */
function Rehearsal({ report }: { report: Report }) {
	return (
		<section className="surface" aria-labelledby="rehearsal">
			<Title order={2} size="h5" id="rehearsal" p="sm" pb={4}>
				{report.changed === 0
					? t`Nothing would be decided differently`
					: t`${plural(report.changed, t`recipient`, t`recipients`)} would be decided differently`}
			</Title>
			<Text size="sm" px="sm" pb="xs">
				<Trans>
					{count(report.envelopes)} envelopes with {count(report.recipients)} recipients were replayed;{" "}
					{plural(report.moves, t`waiting delivery`, t`waiting deliveries`)} would go by another route.{" "}
					{count(report.attempts)} attempts to relay from outside were made:
				</Trans>{" "}
				{report.hostile.length === 0 ? (
					t`none came through.`
				) : (
					<b>
						<Trans>{count(report.hostile.length)} came through.</Trans>
					</b>
				)}
				{report.unused.length > 0 && t` None of these envelopes took the routes ${report.unused.join(", ")}.`}
			</Text>
			{report.groups.length > 0 && (
				<Table.ScrollContainer minWidth={820}>
					<Table verticalSpacing={4} horizontalSpacing="sm">
						<Table.Thead>
							<Table.Tr>
								<Table.Th>
									<Trans>What changes</Trans>
								</Table.Th>
								<Table.Th ta="right">
									<Trans>Recipients</Trans>
								</Table.Th>
								<Table.Th ta="right">
									<Trans>Waiting</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>Now</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>With the draft</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>For example</Trans>
								</Table.Th>
							</Table.Tr>
						</Table.Thead>
						<Table.Tbody>
							{report.groups.map((g) => (
								<Table.Tr key={g.kind + outcome(g.before, true) + outcome(g.after, true)}>
									<Table.Td className={classes.kind} data-tone={kinds[g.kind][1]}>
										{kinds[g.kind][0]}
									</Table.Td>
									<Table.Td ta="right">{count(g.count)}</Table.Td>
									<Table.Td ta="right">{count(g.waiting)}</Table.Td>
									<Table.Td className={classes.clip}>{outcome(g.before, g.before.tls !== g.after.tls)}</Table.Td>
									<Table.Td className={classes.clip}>{outcome(g.after, g.before.tls !== g.after.tls)}</Table.Td>
									<Table.Td className={classes.clip}>
										<Trans>
											{shown(g.example.sender)} to {g.example.recipient}
											<br />
											<Text span size="xs" c="dimmed">
												<Trans>
													from {g.example.client} at {g.example.listener}
												</Trans>
											</Text>
										</Trans>
									</Table.Td>
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				</Table.ScrollContainer>
			)}
			{report.hazards.length > 0 && (
				<div style={{ padding: "0 12px 12px" }}>
					<HazardList hazards={report.hazards} />
				</div>
			)}
			{(report.findings ?? []).map((w) => (
				<Text key={w.key} size="sm" px={12} pb={8}>
					<Severity of={w.severity} />{" "}
					<Trans>
						It would bring a finding: {w.title} ({w.where}). {w.why}
					</Trans>
				</Text>
			))}
		</section>
	);
}

/** outcome tells a decision in a line, with what is asked of TLS where that differs. */
function outcome(o: ChangeGroup["before"], terms: boolean): string {
	if (!o.allowed) {
		return t`refused: ${o.reply ?? ""}`;
	}
	return (
		o.paths.join(", ") +
		(o.stranded ? t` (stranded)` : "") +
		(terms && o.tls ? t`, TLS ${o.tls}` : "") +
		(o.rule ? `, by ${o.rule}` : "")
	);
}
