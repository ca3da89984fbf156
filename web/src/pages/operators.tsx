import "@mantine/core/styles/Switch.layer.css";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import {
	Alert,
	Badge,
	Button,
	Code,
	CopyButton,
	Group,
	Modal,
	Select,
	Stack,
	Table,
	Text,
	TextInput,
	Title,
} from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Person, people, type Role } from "../api/people";
import { useAsk } from "../parts/ask";
import { Heading } from "../parts/heading";
import { useMay } from "../parts/may";
import { PersonSessions } from "../parts/person-sessions";
import { Failed, Loading, Nothing } from "../parts/states";
import { plural } from "../parts/text";
import { When } from "../parts/when";

const roles: { value: Role; label: string; about: string }[] = [
	{ value: "administrator", label: t`administrator`, about: t`does everything` },
	{
		value: "operator",
		label: t`operator`,
		about: t`acts on queue, held messages and snags; changes no settings`,
	},
	{ value: "auditor", label: t`auditor`, about: t`looks at everything, also at who did what; changes nothing` },
	{ value: "viewer", label: t`viewer`, about: t`looks, masked as the settings say` },
];

/** Something that is shown this once. */
type Shown = { of: string; secret: string; says: string };

/** Who administers, and the tokens of programs. */
export function OperatorsPage() {
	const may = useMay("people");
	const [shown, setShown] = useState<Shown | null>(null);
	if (!may) {
		return (
			<Nothing title={t`This is for administrators`}>
				<Trans>
					Your role does not show who administers. Your own password and sessions are on your account's page.
				</Trans>
			</Nothing>
		);
	}
	return (
		<Stack gap="sm">
			<div>
				<Heading>
					<Trans>Operators</Trans>
				</Heading>
				<Text size="sm" c="dimmed">
					<Trans>People who sign in to administer, and tokens that let programs in. Changes count at once.</Trans>
				</Text>
			</div>
			<Once shown={shown} onClose={() => setShown(null)} />
			<People onShown={setShown} />
			<Tokens onShown={setShown} />
		</Stack>
	);
}

function Once({ shown, onClose }: { shown: Shown | null; onClose: () => void }) {
	return (
		<Modal opened={shown !== null} onClose={onClose} title={shown?.of} closeButtonProps={{ "aria-label": t`Close` }}>
			{shown && (
				<Stack gap="sm">
					<Code block style={{ overflowWrap: "anywhere", whiteSpace: "pre-wrap" }}>
						{shown.secret}
					</Code>
					<Text size="sm">{shown.says}</Text>
					<Group>
						<CopyButton value={shown.secret}>
							{({ copied, copy }) => (
								<Button size="xs" onClick={copy}>
									{copied ? t`Copied` : t`Copy`}
								</Button>
							)}
						</CopyButton>
					</Group>
				</Stack>
			)}
		</Modal>
	);
}

/** The domains in a text, with commas or spaces between. */
const domainsIn = (text: string) => text.split(/[\s,;]+/).filter(Boolean);

function DomainsInput({ value, onChange }: { value: string; onChange: (text: string) => void }) {
	return (
		<TextInput
			size="xs"
			w={220}
			label={t`Only for domains`}
			placeholder={t`all, if empty`}
			value={value}
			onChange={(e) => onChange(e.currentTarget.value)}
		/>
	);
}

function RoleSelect({ value, onChange }: { value: Role; onChange: (r: Role) => void }) {
	return (
		<Select
			size="xs"
			w={150}
			label={t`Role`}
			allowDeselect={false}
			data={roles.map((r) => ({ value: r.value, label: r.label }))}
			value={value}
			onChange={(v) => v && onChange(v as Role)}
		/>
	);
}

function People({ onShown }: { onShown: (s: Shown) => void }) {
	const client = useQueryClient();
	const list = useQuery({ queryKey: ["operators"], queryFn: people.list });
	const [name, setName] = useState("");
	const [about, setAbout] = useState("");
	const [role, setRole] = useState<Role>("operator");
	const [domains, setDomains] = useState("");
	const add = useMutation({
		mutationFn: () => people.add({ name, role, about: about || undefined, domains: domainsIn(domains) }),
		onSuccess: (p) => {
			setName("");
			setDomains("");
			setAbout("");
			void client.invalidateQueries({ queryKey: ["operators"] });
			onShown({
				of: t`First password of ${p.name}`,
				secret: p.password ?? "",
				says: t`It is shown this once. ${p.name} signs in with it and chooses another then.`,
			});
		},
	});
	if (!list.data) {
		return list.error ? <Failed error={list.error} /> : <Loading what={t`who administers`} />;
	}
	return (
		<section className="surface" aria-labelledby="people">
			<Title order={2} size="h5" id="people" p="sm" pb={4}>
				<Trans>People</Trans>
			</Title>
			<Table.ScrollContainer minWidth={760}>
				<Table verticalSpacing={4} horizontalSpacing="sm">
					<Table.Thead>
						<Table.Tr>
							<Table.Th>
								<Trans>Name</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Role</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Last sign-in</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Password chosen</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Sessions</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Second factor</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>About</Trans>
							</Table.Th>
							<Table.Td />
						</Table.Tr>
					</Table.Thead>
					<Table.Tbody>
						{list.data.items.map((p) => (
							<PersonRow key={p.name} person={p} onShown={onShown} />
						))}
					</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
			<form
				onSubmit={(e) => {
					e.preventDefault();
					add.mutate();
				}}
			>
				<Stack gap="xs" p="sm">
					{add.error && (
						<Alert color="buoy" role="alert" p="xs">
							{add.error.message}
						</Alert>
					)}
					<Group align="end" gap="xs">
						<TextInput
							size="xs"
							label={t`Name`}
							placeholder="wren"
							value={name}
							onChange={(e) => setName(e.currentTarget.value)}
						/>
						<RoleSelect value={role} onChange={setRole} />
						<DomainsInput value={domains} onChange={setDomains} />
						<TextInput
							size="xs"
							w={240}
							label={t`About`}
							placeholder={t`nights and weekends`}
							value={about}
							onChange={(e) => setAbout(e.currentTarget.value)}
						/>
						<Button size="xs" type="submit" disabled={!name} loading={add.isPending}>
							<Trans>Add a person</Trans>
						</Button>
					</Group>
					<Text size="xs" c="dimmed">
						{role}: {roles.find((r) => r.value === role)?.about}
					</Text>
				</Stack>
			</form>
		</section>
	);
}

function PersonRow({ person: p, onShown }: { person: Person; onShown: (s: Shown) => void }) {
	const client = useQueryClient();
	const [asking, ask] = useAsk();
	const [open, setOpen] = useState(false);
	const act = useMutation({
		mutationFn: (f: () => Promise<unknown>) => f(),
		onSettled: () => client.invalidateQueries({ queryKey: ["operators"] }),
		onError: (e) => notifications.show({ color: "buoy", title: t`Not changed`, message: e.message }),
	});
	const fresh = async () => {
		const made = await people.change(p.name, { password: "" });
		onShown({
			of: t`New password of ${p.name}`,
			secret: made.password ?? "",
			says: t`It is shown this once. ${p.name} signs in with it and chooses another then.`,
		});
	};
	return (
		<>
			<Table.Tr>
				<Table.Td fw={600}>
					{p.name} {p.off && <Badge tt="none" color="gray">{t`off`}</Badge>}
					{p.must_change && <Badge tt="none" variant="outline" color="brass">{t`new password due`}</Badge>}
				</Table.Td>
				<Table.Td>
					<Select
						size="xs"
						w={140}
						aria-label={t`Role of ${p.name}`}
						allowDeselect={false}
						data={roles.map((r) => ({ value: r.value, label: r.label }))}
						value={p.role}
						onChange={(v) => v && v !== p.role && act.mutate(() => people.change(p.name, { role: v as Role }))}
					/>
					{p.domains && (
						<Text size="xs" c="dimmed">
							<Trans>only for {p.domains.join(", ")}</Trans>
						</Text>
					)}
				</Table.Td>
				<Table.Td>{p.last_at ? <When time={p.last_at} /> : t`never`}</Table.Td>
				<Table.Td>
					<When time={p.password_at} />
				</Table.Td>
				<Table.Td>
					<Button size="compact-xs" variant="subtle" aria-expanded={open} onClick={() => setOpen(!open)}>
						{p.sessions}
					</Button>
				</Table.Td>
				<Table.Td>
					{p.second_factor || p.passkeys ? (
						<Button
							size="compact-xs"
							variant="subtle"
							aria-label={t`on: take the second factor of ${p.name} away`}
							onClick={() =>
								ask({
									title: t`Take the second factor of ${p.name} away?`,
									text: t`For when the telephone was lost: the password alone is enough until another is set up.`,
									yes: t`Take it away`,
									act: () => act.mutate(() => people.change(p.name, { remove_second_factor: true })),
								})
							}
						>
							{p.passkeys ? plural(p.passkeys, t`passkey`, t`passkeys`) : <Trans>on</Trans>}
						</Button>
					) : (
						(p.issuer && t`single sign-on`) || "–"
					)}
				</Table.Td>
				<Table.Td c="dimmed">{p.about}</Table.Td>
				<Table.Td>
					{asking}
					<Group gap={4} justify="flex-end" wrap="nowrap">
						<Button
							size="compact-xs"
							variant="subtle"
							aria-label={t`New password for ${p.name}`}
							onClick={() =>
								ask({
									title: t`A new password for ${p.name}?`,
									text: t`It is made and shown once. His sessions end, and he chooses another when he signs in.`,
									yes: t`Make it`,
									act: () => act.mutate(fresh),
								})
							}
						>
							<Trans>New password</Trans>
						</Button>
						<Button
							size="compact-xs"
							variant="subtle"
							aria-label={p.off ? t`Switch on: ${p.name}` : t`Switch off: ${p.name}`}
							onClick={() => act.mutate(() => people.change(p.name, { off: !p.off }))}
						>
							{p.off ? t`Switch on` : t`Switch off`}
						</Button>
						<Button
							size="compact-xs"
							variant="subtle"
							color="buoy"
							aria-label={t`Remove ${p.name}`}
							onClick={() =>
								ask({
									title: t`Take ${p.name} out?`,
									text: t`His sessions end. What he did stays on record.`,
									yes: t`Take out`,
									act: () => act.mutate(() => people.remove(p.name)),
								})
							}
						>
							<Trans>Remove</Trans>
						</Button>
					</Group>
				</Table.Td>
			</Table.Tr>
			{open && (
				<Table.Tr>
					<Table.Td colSpan={8}>
						<SessionsOf name={p.name} />
					</Table.Td>
				</Table.Tr>
			)}
		</>
	);
}

function SessionsOf({ name }: { name: string }) {
	const client = useQueryClient();
	const list = useQuery({ queryKey: ["operators", name, "sessions"], queryFn: () => people.sessions(name) });
	const end = useMutation({
		mutationFn: (id: number) => people.endSession(name, id),
		onSettled: () => client.invalidateQueries({ queryKey: ["operators"] }),
		onError: (e) => notifications.show({ color: "buoy", title: t`Not ended`, message: e.message }),
	});
	if (!list.data) {
		return list.error ? <Failed error={list.error} /> : <Loading what={t`the sessions`} />;
	}
	if (list.data.items.length === 0) {
		return (
			<Text size="sm" c="dimmed">
				<Trans>No session is open.</Trans>
			</Text>
		);
	}
	return <PersonSessions items={list.data.items} onEnd={(id) => end.mutate(id)} />;
}

const lasts = [
	{ value: "30", label: t`for 30 days` },
	{ value: "90", label: t`for 90 days` },
	{ value: "365", label: t`for a year` },
	{ value: "0", label: t`for good` },
];

function Tokens({ onShown }: { onShown: (s: Shown) => void }) {
	const client = useQueryClient();
	const [asking, ask] = useAsk();
	const list = useQuery({ queryKey: ["tokens"], queryFn: people.tokens });
	const [name, setName] = useState("");
	const [role, setRole] = useState<Role>("viewer");
	const [domains, setDomains] = useState("");
	const [days, setDays] = useState("30");
	const again = () => void client.invalidateQueries({ queryKey: ["tokens"] });
	const add = useMutation({
		mutationFn: () =>
			people.addToken({
				name,
				role,
				domains: domainsIn(domains),
				ends_at: days === "0" ? undefined : new Date(Date.now() + Number(days) * 86_400_000).toISOString(),
			}),
		onSuccess: (made) => {
			setName("");
			again();
			onShown({
				of: t`Token of ${made.name}`,
				secret: made.value,
				says: t`It is shown this once. Programs send it as a bearer token, or as GULL_TOKEN.`,
			});
		},
	});
	const revoke = useMutation({
		mutationFn: people.revoke,
		onSettled: again,
		onError: (e) => notifications.show({ color: "buoy", title: t`Not revoked`, message: e.message }),
	});
	if (!list.data) {
		return list.error ? <Failed error={list.error} /> : <Loading what={t`the tokens`} />;
	}
	return (
		<section className="surface" aria-labelledby="tokens">
			{asking}
			<Title order={2} size="h5" id="tokens" p="sm" pb={4}>
				<Trans>Tokens of programs</Trans>
			</Title>
			<Table.ScrollContainer minWidth={640}>
				<Table verticalSpacing={4} horizontalSpacing="sm">
					<Table.Thead>
						<Table.Tr>
							<Table.Th>
								<Trans>Name</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Role</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Made</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Ends</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Last used</Trans>
							</Table.Th>
							<Table.Td />
						</Table.Tr>
					</Table.Thead>
					<Table.Tbody>
						{list.data.items.map((x) => (
							<Table.Tr key={x.id}>
								<Table.Td fw={600}>{x.name}</Table.Td>
								<Table.Td>
									{x.role}
									{x.domains && t`, only for ${x.domains.join(", ")}`}
								</Table.Td>
								<Table.Td>
									<Trans>
										<When time={x.made_at} /> by {x.made_by}
									</Trans>
								</Table.Td>
								<Table.Td>{x.ends_at ? <When time={x.ends_at} /> : t`never`}</Table.Td>
								<Table.Td>
									{x.last_at ? <When time={x.last_at} /> : t`never`} <span className="mono">{x.last_from}</span>
								</Table.Td>
								<Table.Td ta="right">
									<Button
										size="compact-xs"
										variant="subtle"
										color="buoy"
										aria-label={t`Revoke ${x.name}`}
										onClick={() =>
											ask({
												title: t`Revoke the token ${x.name}?`,
												text: t`Programs that use it are refused at once. It cannot be brought back.`,
												yes: t`Revoke it`,
												act: () => revoke.mutate(x.id),
											})
										}
									>
										<Trans>Revoke</Trans>
									</Button>
								</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
			<form
				onSubmit={(e) => {
					e.preventDefault();
					add.mutate();
				}}
			>
				<Stack gap="xs" p="sm">
					{add.error && (
						<Alert color="buoy" role="alert" p="xs">
							{add.error.message}
						</Alert>
					)}
					<Group align="end" gap="xs">
						<TextInput
							size="xs"
							label={t`What for`}
							placeholder={t`backups`}
							value={name}
							onChange={(e) => setName(e.currentTarget.value)}
						/>
						<RoleSelect value={role} onChange={setRole} />
						<DomainsInput value={domains} onChange={setDomains} />
						<Select
							size="xs"
							w={140}
							label={t`Lasts`}
							allowDeselect={false}
							data={lasts}
							value={days}
							onChange={(v) => v && setDays(v)}
						/>
						<Button size="xs" type="submit" disabled={!name} loading={add.isPending}>
							<Trans>Make a token</Trans>
						</Button>
					</Group>
				</Stack>
			</form>
		</section>
	);
}
