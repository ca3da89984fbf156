import "@mantine/core/styles/Switch.layer.css";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import {
	Button,
	Group,
	MultiSelect,
	SegmentedControl,
	Select,
	SimpleGrid,
	Stack,
	Switch,
	Table,
	Text,
	TextInput,
	Title,
} from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { gull } from "../api/client";
import { setup } from "../api/setup";
import { type Conversation, type Heard, type Probe, type Step, sound } from "../api/sound";
import { Heading } from "../parts/heading";
import { useMayWork } from "../parts/may";
import snagClasses from "../parts/snag.module.css";
import { Result } from "../parts/sound";
import classes from "../parts/sound.module.css";
import { Failed, Loading } from "../parts/states";
import { To } from "../parts/to";
import { exact } from "../parts/when";

export type ProbeWords = { target?: string; routes?: string; from?: string; inwards?: string; client?: string };

/** A live conversation with a host, step by step. */
export function ProbePage() {
	const words = useSearch({ from: "/probe" }) as ProbeWords;
	const navigate = useNavigate();
	const may = useMayWork();
	const [inwards, setInwards] = useState(words.inwards !== undefined);
	const [now, setNow] = useState<ProbeWords>(words);
	const [message, setMessage] = useState(false);
	const [heard, setHeard] = useState<Heard[]>([]);
	const status = useQuery({ queryKey: ["status"], queryFn: gull.status });
	const routes = useQuery({ queryKey: ["setup", "routes"], queryFn: () => setup.list("routes") });
	// It connects to others, and may send: only a press does that, and one press once.
	const probe = useMutation({
		mutationFn: (w: ProbeWords) => {
			setHeard([]);
			return sound.probe(
				{
					target: w.target,
					routes: w.routes?.split("|"),
					from: w.from,
					inwards: w.inwards,
					client: w.client,
					message: message && !w.inwards && w.target?.includes("@"),
				},
				(s) => setHeard((old) => [...old, s]),
			);
		},
		onSettled: () => setMessage(false),
	});
	const set = (w: ProbeWords) => setNow({ ...now, ...w });
	return (
		<Stack gap="sm">
			<Group justify="space-between">
				<div>
					<Heading>
						<Trans>Probe</Trans>
					</Heading>
					<Text size="sm" c="dimmed">
						<Trans>
							A live conversation with a mail host, step by step. Nothing is sent unless you ask for a message.
						</Trans>
					</Text>
				</div>
				<SegmentedControl
					size="xs"
					aria-label={t`Direction`}
					value={inwards ? "in" : "out"}
					onChange={(v) => setInwards(v === "in")}
					data={[
						{ value: "out", label: t`Another's host` },
						{ value: "in", label: t`Our listeners` },
					]}
				/>
			</Group>
			<form
				className="surface"
				style={{ padding: 12 }}
				onSubmit={(e) => {
					e.preventDefault();
					const search = inwards
						? { inwards: now.inwards ?? "*", client: now.client }
						: { target: now.target, routes: now.routes, from: now.from };
					void navigate({ to: "/probe", search, replace: true });
					probe.mutate(search);
				}}
			>
				{inwards ? (
					<SimpleGrid cols={{ base: 1, sm: 3 }} spacing="xs">
						<Select
							size="xs"
							label={t`Listener`}
							data={[
								{ value: "*", label: t`all of them` },
								...(status.data?.listeners ?? []).map((l) => ({ value: l.name, label: l.name })),
							]}
							value={now.inwards ?? "*"}
							onChange={(v) => set({ inwards: v ?? "*" })}
						/>
						<TextInput
							size="xs"
							label={t`Coming from`}
							placeholder="127.0.0.1"
							description={t`An address of this machine`}
							value={now.client ?? ""}
							onChange={(e) => set({ client: e.currentTarget.value || undefined })}
						/>
					</SimpleGrid>
				) : (
					<SimpleGrid cols={{ base: 1, sm: 3 }} spacing="xs">
						<TextInput
							size="xs"
							label={t`Host, domain or address`}
							placeholder={t`harbour@saltmarsh.example`}
							value={now.target ?? ""}
							onChange={(e) => set({ target: e.currentTarget.value || undefined })}
						/>
						<MultiSelect
							size="xs"
							label={t`By routes`}
							placeholder={now.routes ? undefined : t`the one a message would take`}
							data={(routes.data?.items ?? []).map((r) => r.name)}
							value={now.routes ? now.routes.split("|") : []}
							onChange={(v) => set({ routes: v.length > 0 ? v.join("|") : undefined })}
						/>
						<TextInput
							size="xs"
							label={t`Sender`}
							placeholder={t`the postmaster`}
							value={now.from ?? ""}
							onChange={(e) => set({ from: e.currentTarget.value || undefined })}
						/>
					</SimpleGrid>
				)}
				<Group mt="sm">
					<Button type="submit" size="xs" loading={probe.isPending} disabled={!may || (!inwards && !now.target)}>
						<Trans>Probe</Trans>
					</Button>
					{!inwards && now.target?.includes("@") && (
						<Switch
							size="xs"
							label={t`send a small real message`}
							checked={message}
							onChange={(e) => setMessage(e.currentTarget.checked)}
						/>
					)}
					{!may && (
						<Text size="sm" c="dimmed">
							<Trans>Only an administrator may connect to others.</Trans>
						</Text>
					)}
				</Group>
			</form>
			{probe.isPending && (
				<section className="surface" aria-live="polite" aria-label={t`What was heard so far`}>
					<Loading what={t`what the host says; a silent one takes ten seconds a step`} />
					{heard.map((h, i) => (
						// biome-ignore lint/suspicious/noArrayIndexKey: what was heard does not move
						<Text key={i} size="sm" px="sm" pb={4}>
							<Result of={h.step.result} /> <b>{h.step.name}</b> {h.host && `${h.host}: `}
							{h.step.says}
						</Text>
					))}
				</section>
			)}
			{probe.error && <Failed error={probe.error} />}
			{probe.data && !probe.isPending && <Outcome probe={probe.data} />}
		</Stack>
	);
}

function Outcome({ probe: p }: { probe: Probe }) {
	const severity = p.result === "fail" ? "critical" : undefined;
	return (
		<>
			<section
				className={snagClasses.means}
				data-severity={severity}
				data-over={p.result === "pass" || undefined}
				aria-live="polite"
			>
				<Text fw={600}>{p.verdict}</Text>
				{p.cause && (
					<Text size="sm">
						<Trans>
							{p.cause.title}. {p.cause.means} {p.cause.fix} Who can fix it: {p.cause.who_can_fix.replaceAll("-", " ")}.
						</Trans>
					</Text>
				)}
			</section>
			{p.steps.length > 0 && <Steps title={t`Before any connection`} steps={p.steps} />}
			{p.attempts.map((a) => (
				<Steps
					key={`${a.route} ${a.source} ${a.host} ${a.address} ${a.port}`}
					title={titleOf(a)}
					steps={a.steps}
					session={a.session_id}
				/>
			))}
		</>
	);
}

const titleOf = (a: Conversation) =>
	t`${a.host} [${a.address}] port ${a.port}${a.route ? t`, by route “${a.route}”` : ""}${a.source ? t`, from ${a.source}` : ""}`;

function Steps({ title, steps, session }: { title: string; steps: Step[]; session?: string }) {
	const [whole, setWhole] = useState(false);
	const lines = steps.some((s) => (s.lines ?? []).length > 0);
	return (
		<section className="surface" aria-label={title}>
			<Group justify="space-between" p="sm" pb={4}>
				<Title order={2} size="h5">
					{title}
				</Title>
				<Group gap="sm">
					{session && (
						<To to="/sessions/$id" params={{ id: session }} size="sm">
							<Trans>Session</Trans>
						</To>
					)}
					{lines && (
						<Button size="compact-xs" variant="default" onClick={() => setWhole(!whole)} aria-expanded={whole}>
							{whole ? t`Hide the transcript` : t`Show the transcript`}
						</Button>
					)}
				</Group>
			</Group>
			<Table.ScrollContainer minWidth={620}>
				<Table verticalSpacing={4} horizontalSpacing="sm" className={classes.step}>
					<Table.Tbody>
						{steps.map((s, i) => (
							// biome-ignore lint/suspicious/noArrayIndexKey: steps have no other name, and do not move
							<Table.Tr key={i}>
								<Table.Td w={100}>
									<Result of={s.result} />
								</Table.Td>
								<Table.Td w={100} fw={600}>
									{s.name}
								</Table.Td>
								<Table.Td w={80} ta="right" c="dimmed">
									<Trans>{Math.round(s.took * 1000)} ms</Trans>
								</Table.Td>
								<Table.Td style={{ overflowWrap: "anywhere" }}>
									{s.says}
									{(s.certificates ?? []).map((c) => (
										<Text key={c.subject + c.until} size="xs" c="dimmed">
											<Trans>
												{c.subject} for {c.names.join(", ")}
												{c.more ? t` and ${c.more} more names` : ""}; {c.key}; until {exact(c.until)}; by {c.issuer}
											</Trans>
										</Text>
									))}
									{(whole || s.result === "fail") && (s.lines ?? []).length > 0 && (
										<pre className={`mono ${classes.transcript}`}>
											{(s.lines ?? []).map((l, k) => (
												// biome-ignore lint/suspicious/noArrayIndexKey: lines do not move
												<span key={k}>
													{l.at.toFixed(3)} {l.who === "us" ? "→" : l.who === "them" ? "←" : "·"} <b>{l.text}</b>
													{"\n"}
												</span>
											))}
										</pre>
									)}
								</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
		</section>
	);
}
