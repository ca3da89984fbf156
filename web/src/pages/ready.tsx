import "@mantine/core/styles/Switch.layer.css";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Group, Select, Stack, Switch, Table, Text, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useParams } from "@tanstack/react-router";
import { useState } from "react";
import { type Aspect, type Key, type Looks, sound } from "../api/sound";
import { Feedback } from "../parts/feedback";
import { Heading } from "../parts/heading";
import { useMayChange, useMayWork } from "../parts/may";
import { Published, PublishPlan } from "../parts/publish";
import { FoldedRecord, RecordView, Result } from "../parts/sound";
import classes from "../parts/sound.module.css";
import { Failed, Loading, Nothing } from "../parts/states";
import { soft } from "../parts/text";
import { To } from "../parts/to";
import { exact, When } from "../parts/when";

/** One of our domains as the world sees it, point by point. */
export function ReadyPage() {
	const { domain } = useParams({ from: "/readiness/$domain" });
	const client = useQueryClient();
	const may = useMayWork();
	const mayPublish = useMayChange();
	// Points whose records are about to be published; all for an empty list.
	const [points, setPoints] = useState<string[]>();
	const looks = useQuery({ queryKey: ["readiness", domain], queryFn: () => sound.ready(domain) });
	const look = useMutation({
		mutationFn: () => sound.look(domain),
		onSuccess: () => void client.invalidateQueries(),
		onError: (e) => notifications.show({ color: "buoy", title: t`Not looked at`, message: e.message }),
	});
	if (!looks.data) {
		return looks.error ? <Failed error={looks.error} /> : <Loading what={t`the last look`} />;
	}
	const r = looks.data.last;
	return (
		<Stack gap="md">
			<Group justify="space-between" align="start">
				<div>
					<Text size="sm">
						<To to="/readiness" inherit>
							<Trans>Readiness</Trans>
						</To>
					</Text>
					<Heading>{soft(r?.name ?? domain)}</Heading>
					{r && (
						<Text size="sm" c="dimmed">
							<Trans>
								{r.kind} domain, looked at <When time={r.checked_at} /> ({exact(r.checked_at)})
							</Trans>
						</Text>
					)}
				</div>
				<Group gap="lg">
					{r && (
						<Text className={classes.score} aria-label={t`${r.score} of ten`}>
							{r.score.toFixed(1)}
							<Text span size="sm" c="dimmed">
								{" "}
								<Trans>of 10</Trans>
							</Text>
						</Text>
					)}
					{mayPublish && r?.points.some((p) => p.records?.length) && (
						<Button onClick={() => setPoints([])} disabled={points?.length === 0}>
							<Trans>Publish…</Trans>
						</Button>
					)}
					{may && (
						<Button variant="default" onClick={() => look.mutate()} loading={look.isPending}>
							<Trans>Look now</Trans>
						</Button>
					)}
				</Group>
			</Group>
			{!r && (
				<Nothing title={t`It was not looked at yet`}>
					<Trans>Press “Look now”.</Trans>
				</Nothing>
			)}
			{r && (
				<>
					<Text aria-live="polite">{r.verdict}</Text>
					{points && (
						<PublishPlan key={points.join(" ")} domain={r.domain} points={points} close={() => setPoints(undefined)} />
					)}
					<section className="surface" aria-label={t`Points`}>
						{r.points.map((p) => (
							<PointView key={p.key} point={p} publish={mayPublish ? () => setPoints([p.key]) : undefined} />
						))}
					</section>
				</>
			)}
			<Feedback domain={r?.domain ?? domain} />
			<Keys domain={domain} />
			<Published domain={r?.domain ?? domain} may={mayPublish} />
			<Changes looks={looks.data} />
		</Stack>
	);
}

function PointView({ point: p, publish }: { point: Aspect; publish?: () => void }) {
	const quiet = p.result === "pass" || p.result === "not checked";
	return (
		<article className={classes.point}>
			<Group justify="space-between" gap="xs" wrap="nowrap" align="start">
				<div className={classes.lead}>
					<div className={classes.mark}>
						<Result of={p.result} />
					</div>
					<div>
						<Text fw={600}>{p.title}</Text>
						<Text size="sm">{p.says}</Text>
						{!quiet && (
							<Text size="sm" c="dimmed">
								<Trans>Expected: {p.expected}</Trans>
							</Text>
						)}
						{p.found.length > 0 && (
							<Text size="sm" c="dimmed" className="mono" style={{ overflowWrap: "anywhere", whiteSpace: "pre-wrap" }}>
								{p.found.join("\n")}
							</Text>
						)}
					</div>
				</div>
				<Group gap="xs" wrap="nowrap">
					{p.costs > 0 && (
						<Text size="sm" c="dimmed" style={{ whiteSpace: "nowrap" }}>
							<Trans>costs {p.costs.toFixed(1)}</Trans>
						</Text>
					)}
					{publish && (p.records ?? []).length > 0 && (
						<Button size="compact-xs" variant="default" onClick={publish} aria-label={t`Publish for ${p.title}`}>
							<Trans>Publish…</Trans>
						</Button>
					)}
				</Group>
			</Group>
			{(p.records ?? []).map((r) => (
				<div key={r.zone_line} className={classes.record}>
					{(p.records ?? []).length > 1 ? <FoldedRecord record={r} /> : <RecordView record={r} />}
				</div>
			))}
		</article>
	);
}

/** The keys that sign the domain's messages. */
function Keys({ domain }: { domain: string }) {
	const may = useMayWork();
	const client = useQueryClient();
	const keys = useQuery({ queryKey: ["dkim", domain], queryFn: () => sound.keys(domain) });
	const [algorithm, setAlgorithm] = useState("rsa-2048");
	const [takes, setTakes] = useState(true);
	const failed = (e: Error) => notifications.show({ color: "buoy", title: t`Not done`, message: e.message });
	const done = () => void client.invalidateQueries();
	const make = useMutation({
		mutationFn: () => sound.makeKey({ domain, algorithm, takes_over: takes }),
		onSuccess: done,
		onError: failed,
	});
	const act = useMutation({
		mutationFn: ({ key, verb }: { key: Key; verb: "check" | "use" | "retire" }) => sound.doKey(key, verb),
		onSuccess: done,
		onError: failed,
	});
	const items = keys.data?.items ?? [];
	return (
		<section className="surface" aria-labelledby="keys">
			<Group justify="space-between" p="sm" align="end">
				<div>
					<Title order={2} size="h5" id="keys">
						<Trans>Keys that sign (DKIM)</Trans>
					</Title>
					<Text size="sm" c="dimmed">
						{items.length === 0
							? t`Messages of this domain are not signed.`
							: t`A private key is kept encrypted and never shown.`}
					</Text>
				</div>
				{may && (
					<Group gap="xs" align="end">
						<Select
							size="xs"
							label={t`New key`}
							w={120}
							data={["rsa-2048", "rsa-3072", "ed25519"]}
							value={algorithm}
							onChange={(v) => setAlgorithm(v ?? "rsa-2048")}
							allowDeselect={false}
						/>
						<Switch
							size="xs"
							mb={6}
							label={t`takes over by itself`}
							checked={takes}
							onChange={(e) => setTakes(e.currentTarget.checked)}
						/>
						<Button size="xs" variant="default" onClick={() => make.mutate()} loading={make.isPending}>
							<Trans>Make</Trans>
						</Button>
					</Group>
				)}
			</Group>
			{keys.error && <Failed error={keys.error} />}
			{items.map((k) => (
				<article key={k.selector} className={classes.point}>
					<Group justify="space-between" align="start">
						<div>
							<Group gap="xs">
								<Text fw={600} className="mono">
									{k.selector}
								</Text>
								<Result of={k.fault ? "fail" : k.state === "signing" ? "pass" : "skipped"}>{k.state}</Result>
								<Text size="sm" c="dimmed">
									<Trans>
										{k.algorithm}, made <When time={k.made_at} /> by {k.who}
									</Trans>
								</Text>
							</Group>
							<Text size="sm">
								<Trans>
									{k.fault ? t`In DNS: ${k.fault}. ` : k.seen_at ? t`In DNS. ` : ""}
									Next: {k.next}.
								</Trans>
							</Text>
						</div>
						{may && (
							<Group gap={6}>
								<Button
									size="compact-xs"
									variant="default"
									onClick={() => act.mutate({ key: k, verb: "check" })}
									aria-label={t`Ask DNS for ${k.selector}`}
								>
									<Trans>Ask DNS</Trans>
								</Button>
								{k.state !== "signing" && (
									<Button size="compact-xs" variant="default" onClick={() => act.mutate({ key: k, verb: "use" })}>
										<Trans>Let it sign</Trans>
									</Button>
								)}
								{k.state === "signing" && (
									<Button size="compact-xs" variant="default" onClick={() => act.mutate({ key: k, verb: "retire" })}>
										<Trans>Retire</Trans>
									</Button>
								)}
							</Group>
						)}
					</Group>
					<div style={{ marginTop: 6 }}>
						{k.state === "made" ? <RecordView record={k.record} /> : <FoldedRecord record={k.record} />}
					</div>
				</article>
			))}
		</section>
	);
}

function Changes({ looks }: { looks: Looks }) {
	if (looks.changes.length === 0) {
		return null;
	}
	return (
		<section className="surface" aria-labelledby="changes">
			<Title order={2} size="h5" id="changes" p="sm">
				<Trans>What changed</Trans>
			</Title>
			<Table verticalSpacing={4} horizontalSpacing="sm">
				<Table.Tbody>
					{looks.changes.map((c) => (
						<Table.Tr key={c.at + c.key} style={{ verticalAlign: "top" }}>
							<Table.Td w={110}>
								<When time={c.at} />
							</Table.Td>
							<Table.Td>{c.title}</Table.Td>
							<Table.Td w={190}>
								<Result of={c.was} /> → <Result of={c.is} />
							</Table.Td>
							<Table.Td>{c.says}</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
		</section>
	);
}
