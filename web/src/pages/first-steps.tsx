import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Group, PasswordInput, SegmentedControl, Stack, Text, TextInput, Title } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { gull } from "../api/client";
import { type Fields, type SectionKey, type Submitted, setup } from "../api/setup";
import { words } from "../parts/fields";
import { Heading } from "../parts/heading";
import { useMayChange } from "../parts/may";
import { State } from "../parts/state";
import { Failed, Loading } from "../parts/states";
import { plural } from "../parts/text";
import { To } from "../parts/to";
import classes from "./setup.module.css";

/**
 * edit adds things in the draft and puts them in force, unless somebody has other
 * changes waiting there: then they collect with those.
 */
async function edit(changes: [SectionKey, Fields][]): Promise<string> {
	const before = await setup.draft();
	for (const [section, fields] of changes) {
		await setup.add(section, fields);
	}
	if (before.exists) {
		return t`It is in the draft, with the changes that wait there already. Apply the draft below.`;
	}
	const done = await setup.apply({ why: t`first steps` });
	return done.trouble.length > 0 ? done.trouble.join(". ") : t`In force, as revision ${done.revision}.`;
}

type Known = { domains: Fields[]; listeners: Fields[]; rules: Fields[]; routes: Fields[] };

function useKnown() {
	const get = (s: SectionKey) => ({ queryKey: ["setup", s], queryFn: () => setup.list(s) });
	const [domains, listeners, rules, routes] = [
		useQuery(get("domains")),
		useQuery(get("listeners")),
		useQuery(get("relay_rules")),
		useQuery(get("routes")),
	];
	const fields = (q: typeof domains) => (q.data?.items ?? []).map((i) => i.fields);
	return {
		ready: domains.data && listeners.data && rules.data && routes.data,
		error: domains.error ?? listeners.error ?? rules.error ?? routes.error,
		known: { domains: fields(domains), listeners: fields(listeners), rules: fields(rules), routes: fields(routes) },
	};
}

/** From nothing to a message in and a message out, one step after another. */
export function FirstStepsPage() {
	const { ready, error, known } = useKnown();
	const mailboxes = useQuery({ queryKey: ["mailboxes", "first"], queryFn: () => setup.mailboxes({ limit: 1 }) });
	const may = useMayChange();
	if (!ready || !mailboxes.data) {
		return error ? <Failed error={error} /> : <Loading what={t`what is set up`} />;
	}
	const out = known.routes.filter((r) => r.off !== true && words(r.recipients).includes("*"));
	const ours = known.domains.find((d) => d.kind === "local") ?? known.domains.find((d) => d.kind === "shared");
	const box = mailboxes.data.items[0];
	return (
		<Stack gap="sm" maw={900}>
			<div>
				<Heading>
					<Trans>First steps</Trans>
				</Heading>
				<Text size="sm" c="dimmed">
					<Trans>
						From nothing to a message in and a message out. What is done already is ticked; each step can be made again.
					</Trans>
				</Text>
			</div>
			{!may && (
				<Alert color="brass">
					<Trans>A viewer may look, not change.</Trans>
				</Alert>
			)}
			<div className="surface">
				<Step
					n={1}
					done={known.domains.length > 0}
					title={t`Your domain`}
					state={known.domains.map((d) => `${d.name} (${d.kind})`).join(", ")}
				>
					<DomainStep />
				</Step>
				<Step
					n={2}
					done={known.listeners.length > 1}
					title={t`Where mail comes in`}
					state={known.listeners.map((l) => `${l.name} at ${l.address}`).join(", ")}
				>
					<ListenerStep known={known} />
				</Step>
				<Step
					n={3}
					done={!!box}
					title={t`A mailbox`}
					state={box ? `${box.address}${mailboxes.data.next ? t` and others` : ""}` : ""}
				>
					<MailboxStep domain={String(ours?.name ?? "")} />
				</Step>
				<Step
					n={4}
					done={known.rules.some((r) => r.action === "allow")}
					title={t`Who may send to others`}
					state={known.rules.map((r) => `${r.name} (${r.action})`).join(", ")}
				>
					<RelayStep known={known} />
				</Step>
				<Step
					n={5}
					done={out.length > 0}
					title={t`A route out`}
					state={out.map((r) => `${r.name} (${r.next_hop})`).join(", ")}
				>
					<RouteStep />
				</Step>
				<Step n={6} title={t`A test message in, as from a stranger`}>
					<TestStep
						key={`in ${box?.address}`}
						listener={String(known.listeners.find((l) => l.kind === "edge")?.name ?? "")}
						from="test@saltmarsh.example"
						to={box?.address ?? ""}
					/>
				</Step>
				<Step n={7} title={t`A test message out, as from a machine of yours`}>
					<TestStep
						key={`out ${box?.address}`}
						listener={String(known.listeners.find((l) => l.kind === "inside")?.name ?? "")}
						from={box?.address ?? ""}
						to="harbour@saltmarsh.example"
					/>
				</Step>
			</div>
		</Stack>
	);
}

function Step({
	n,
	done,
	title,
	state,
	children,
}: {
	n: number;
	done?: boolean;
	title: string;
	state?: string;
	children: ReactNode;
}) {
	const [open, setOpen] = useState<boolean | null>(null);
	const shown = open ?? !done;
	return (
		<section className={classes.step} aria-label={title}>
			<div className={classes.number} data-done={done ?? false}>
				{done ? "✓" : n}
			</div>
			<Stack gap={6}>
				<Group justify="space-between" wrap="nowrap">
					<div>
						<Title order={2} size="h5">
							{title}
						</Title>
						{state && (
							<Text size="sm" c="dimmed">
								{state}
							</Text>
						)}
					</div>
					{done && (
						<Button size="compact-xs" variant="subtle" style={{ flexShrink: 0 }} onClick={() => setOpen(!shown)}>
							{shown ? t`Close` : t`Add another`}
						</Button>
					)}
				</Group>
				{shown && children}
			</Stack>
		</section>
	);
}

/** Doing is a step's form: its button, and what came of it. */
function Doing({
	label,
	act,
	disabled,
	children,
}: {
	label: string;
	act: () => Promise<string>;
	disabled?: boolean;
	children: ReactNode;
}) {
	const client = useQueryClient();
	const may = useMayChange();
	const run = useMutation({ mutationFn: act, onSettled: () => void client.invalidateQueries() });
	return (
		<form
			onSubmit={(e) => {
				e.preventDefault();
				run.mutate();
			}}
		>
			<Stack gap={6}>
				{children}
				<Group gap="sm">
					<Button type="submit" size="xs" loading={run.isPending} disabled={!may || disabled}>
						{label}
					</Button>
					{run.data && (
						<Text size="sm" c="kelp" fw={600} role="status">
							{run.data}
						</Text>
					)}
				</Group>
				{run.error && (
					<Alert color="buoy" p="xs" role="alert">
						{run.error.message}
					</Alert>
				)}
			</Stack>
		</form>
	);
}

function DomainStep() {
	const [name, setName] = useState("");
	return (
		<Doing
			label={t`Add the domain`}
			disabled={!name}
			act={() => edit([["domains", { name, kind: "local", generated_addresses: ["{first}.{last}"] }]])}
		>
			<Text size="sm">
				<Trans>
					The part of your addresses behind the @. The world finds this server by the domain's MX record in DNS; other
					kinds of domain are under{" "}
					<To to="/setup/$section" params={{ section: "domains" }} inherit>
						<Trans>Domains</Trans>
					</To>
					.
				</Trans>
			</Text>
			<TextInput
				size="xs"
				w={300}
				label={t`Domain`}
				placeholder={t`skerryline.example`}
				value={name}
				onChange={(e) => setName(e.currentTarget.value.trim())}
			/>
		</Doing>
	);
}

function ListenerStep({ known }: { known: Known }) {
	const edge = String(known.listeners.find((l) => l.kind === "edge")?.address ?? "0.0.0.0:25");
	const at = edge.lastIndexOf(":");
	const [host, port] = [edge.slice(0, at), Number(edge.slice(at + 1))];
	const has = (kind: string) => known.listeners.some((l) => l.kind === kind);
	const [people, setPeople] = useState(`${host}:${port === 25 ? 587 : port + 20}`);
	const [machines, setMachines] = useState(`127.0.0.1:${port === 25 ? 2526 : port + 1}`);
	const [world, setWorld] = useState("0.0.0.0:25");
	const wanted: [SectionKey, Fields][] = [];
	if (!has("edge")) {
		wanted.push(["listeners", { name: "edge", address: world, kind: "edge", tls: "starttls" }]);
	}
	if (!has("submission")) {
		wanted.push(["listeners", { name: "submission", address: people, kind: "submission", tls: "required" }]);
	}
	if (!has("inside")) {
		wanted.push(["listeners", { name: "inside", address: machines, kind: "inside" }]);
	}
	return (
		<Doing
			label={wanted.length > 0 ? t`Open ${plural(wanted.length, t`listener`, t`listeners`)}` : t`All three are open`}
			disabled={wanted.length === 0}
			act={() => edit(wanted)}
		>
			<Text size="sm">
				<Trans>
					The world comes in at the edge, without sign-in. People sign in at submission, under TLS. Machines of yours
					come in at inside, without sign-in.
				</Trans>
			</Text>
			<Group gap="xs">
				{!has("edge") && (
					<TextInput
						size="xs"
						label={t`For the world`}
						value={world}
						onChange={(e) => setWorld(e.currentTarget.value)}
					/>
				)}
				{!has("submission") && (
					<TextInput
						size="xs"
						label={t`For people`}
						value={people}
						onChange={(e) => setPeople(e.currentTarget.value)}
					/>
				)}
				{!has("inside") && (
					<TextInput
						size="xs"
						label={t`For machines`}
						value={machines}
						onChange={(e) => setMachines(e.currentTarget.value)}
					/>
				)}
			</Group>
		</Doing>
	);
}

function MailboxStep({ domain }: { domain: string }) {
	const [name, setName] = useState("");
	const [local, setLocal] = useState("");
	const [password, setPassword] = useState("");
	const address = local.includes("@") ? local : `${local}@${domain}`;
	return (
		<Doing
			label={t`Add the mailbox`}
			disabled={!local || !domain}
			act={async () => {
				await setup.addEntry("mailboxes", {
					address,
					...(name ? { name } : {}),
					...(password ? { password, may_submit: true } : {}),
				});
				return t`${address} is there.`;
			}}
		>
			{!domain && (
				<Text size="sm">
					<Trans>Add your domain first.</Trans>
				</Text>
			)}
			<Group gap="xs" align="end">
				<TextInput
					size="xs"
					label={t`Name`}
					placeholder={t`Ines Harrow`}
					value={name}
					onChange={(e) => setName(e.currentTarget.value)}
				/>
				<TextInput
					size="xs"
					label={t`Address`}
					placeholder={t`ines.harrow`}
					rightSection={<Text size="xs">@{domain}</Text>}
					rightSectionWidth={domain.length * 7 + 22}
					w={300}
					value={local}
					onChange={(e) => setLocal(e.currentTarget.value.trim())}
				/>
				<PasswordInput
					size="xs"
					w={190}
					label={t`Password, to sign in and send`}
					autoComplete="new-password"
					value={password}
					onChange={(e) => setPassword(e.currentTarget.value)}
				/>
			</Group>
		</Doing>
	);
}

function RelayStep({ known }: { known: Known }) {
	const [network, setNetwork] = useState("127.0.0.1");
	const domains = known.domains.filter((d) => d.kind !== "relay").map((d) => String(d.name));
	const names = known.rules.map((r) => r.name);
	const inside = known.listeners.find((l) => l.kind === "inside")?.name;
	const wanted: [SectionKey, Fields][] = [];
	if (!names.includes("people") && domains.length > 0) {
		wanted.push([
			"relay_rules",
			{ name: "people", accounts: domains, own_sender: true, action: "allow", limits: { messages_per_day: 500 } },
		]);
	}
	const machines = network === "127.0.0.1" ? "this machine" : `machines in ${network}`;
	if (network && !names.includes(machines)) {
		wanted.push([
			"relay_rules",
			{ name: machines, networks: [network], ...(inside ? { listeners: [inside] } : {}), action: "allow" },
		]);
	}
	return (
		<Doing label={t`Let them send`} disabled={wanted.length === 0} act={() => edit(wanted)}>
			<Text size="sm">
				<Trans>
					Until a rule says so, nobody sends to others' domains. People who sign in may send as themselves; machines by
					the network they stand in. Never allow the whole world.
				</Trans>
			</Text>
			<TextInput
				size="xs"
				w={300}
				label={t`Network of your machines`}
				description={t`An address, or a network like 127.20.1.0/24`}
				value={network}
				onChange={(e) => setNetwork(e.currentTarget.value.trim())}
			/>
		</Doing>
	);
}

function RouteStep() {
	const [by, setBy] = useState("mx");
	const [host, setHost] = useState("");
	const [port, setPort] = useState("587");
	const [account, setAccount] = useState("");
	const [password, setPassword] = useState("");
	return (
		<Doing
			label={t`Add the route`}
			disabled={by === "smarthost" && !host}
			act={async () => {
				const route: Fields = { name: "to the world", recipients: ["*"], next_hop: by };
				if (by === "smarthost") {
					Object.assign(route, { hosts: [host], port: Number(port), tls: account ? "verified" : "offered" });
					if (account) {
						await setup.setSecret(host, password);
						route.sign_in = { account, secret: host };
					}
				}
				return edit([["routes", route]]);
			}}
		>
			<Text size="sm">
				<Trans>
					Without a route your replies wait, stranded, and nobody is told. Take the smart host of your provider if it
					closes port 25 or your line is a residential address.
				</Trans>
			</Text>
			<SegmentedControl
				size="xs"
				w={420}
				value={by}
				onChange={setBy}
				data={[
					{ value: "mx", label: t`Straight to each domain's hosts` },
					{ value: "smarthost", label: t`Through a smart host` },
				]}
			/>
			{by === "smarthost" && (
				<Group gap="xs" align="end">
					<TextInput
						size="xs"
						label={t`Host`}
						placeholder={t`harbourlight.example`}
						value={host}
						onChange={(e) => setHost(e.currentTarget.value.trim())}
					/>
					<TextInput
						size="xs"
						w={80}
						label={t`Port`}
						value={port}
						onChange={(e) => setPort(e.currentTarget.value.trim())}
					/>
					<TextInput
						size="xs"
						label={t`Account`}
						placeholder={t`none`}
						value={account}
						onChange={(e) => setAccount(e.currentTarget.value.trim())}
					/>
					<PasswordInput
						size="xs"
						w={170}
						label={t`Password`}
						autoComplete="new-password"
						value={password}
						onChange={(e) => setPassword(e.currentTarget.value)}
					/>
				</Group>
			)}
		</Doing>
	);
}

function TestStep({ listener, from: initialFrom, to: initialTo }: { listener: string; from: string; to: string }) {
	const [from, setFrom] = useState(initialFrom);
	const [to, setTo] = useState(initialTo);
	const [handed, setHanded] = useState<Submitted | null>(null);
	return (
		<Doing
			label={t`Send it`}
			disabled={!to || !listener}
			act={async () => {
				setHanded(null);
				const h = await setup.send({ from, to: [to], listener });
				setHanded(h);
				return h.id ? t`It was taken.` : "";
			}}
		>
			{!listener && (
				<Text size="sm">
					<Trans>Open the listeners first.</Trans>
				</Text>
			)}
			<Group gap="xs">
				<TextInput
					size="xs"
					w={260}
					label={t`From`}
					value={from}
					onChange={(e) => setFrom(e.currentTarget.value.trim())}
				/>
				<TextInput size="xs" w={260} label={t`To`} value={to} onChange={(e) => setTo(e.currentTarget.value.trim())} />
			</Group>
			{handed && <Outcome handed={handed} />}
		</Doing>
	);
}

/** Outcome follows a test message to its end. */
function Outcome({ handed }: { handed: Submitted }) {
	const trace = useQuery({
		queryKey: ["trace", handed.id],
		queryFn: () => gull.trace(handed.id),
		enabled: handed.id !== "",
		refetchInterval: 1500,
	});
	const no = handed.steps.find((s) => !s.positive);
	return (
		<Stack gap={4}>
			{no && (
				<Alert color="buoy" p="xs" title={t`It was refused`}>
					<span className="mono">{no.said || "connecting"}</span> → <span className="mono">{no.heard}</span>
				</Alert>
			)}
			{trace.data?.message.deliveries.map((d) => (
				<Text size="sm" key={d.id}>
					<State state={d.state} /> {d.recipient}{" "}
					{d.last_reply ? <span className="mono">{d.last_reply.text}</span> : ""}{" "}
					{d.route === "no-route" && (
						<>
							<Trans>
								No route leads there.{" "}
								<To to="/setup/$section" params={{ section: "routes" }} search={{ item: "+" }} inherit>
									<Trans>Add one</Trans>
								</To>
								: it leaves by itself then.
							</Trans>{" "}
						</>
					)}
					<To to="/messages/$id" params={{ id: handed.id }} inherit>
						<Trans>its whole path</Trans>
					</To>
				</Text>
			))}
			<details>
				<summary>
					<Text span size="xs" c="dimmed">
						<Trans>The transcript, step by step</Trans>
					</Text>
				</summary>
				{handed.steps.map((s) => (
					<Text size="xs" className="mono" key={s.said + s.heard} c={s.positive ? undefined : "buoy"}>
						{s.said && `> ${s.said}`} <br />
						{`< ${s.heard}`} ({s.seconds.toFixed(3)} s)
					</Text>
				))}
			</details>
		</Stack>
	);
}
