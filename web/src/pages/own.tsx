import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import "../app/styles";
import {
	Alert,
	Button,
	Checkbox,
	Group,
	PasswordInput,
	Progress,
	Stack,
	Table,
	Text,
	Textarea,
	TextInput,
	Title,
} from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Problem } from "../api/client";
import { type OwnChange, type OwnMailbox, own } from "../api/own";
import { AppPasswords, protocols } from "../parts/app-passwords";
import { Loading } from "../parts/loading";
import { NotLetIn, OtherWays } from "../parts/other-ways";
import { PasswordForm } from "../parts/password";
import { count, octets } from "../parts/text";
import { When } from "../parts/when";
import classes from "./sign-in.module.css";

/** OwnPage is the page of somebody's own mailbox, for people who do not administer. */
export function OwnPage() {
	const client = useQueryClient();
	const box = useQuery({ queryKey: ["own"], queryFn: own.mailbox, retry: false });
	const again = () => void client.resetQueries({ queryKey: ["own"] });
	if (box.data) {
		return <Mailbox m={box.data} again={() => void client.invalidateQueries({ queryKey: ["own"] })} leave={again} />;
	}
	if (box.error instanceof Problem && box.error.status === 401) {
		return <SignInOwn onDone={again} />;
	}
	return (
		<main className={classes.page}>
			{box.error ? (
				<Alert color="buoy" role="alert">
					{box.error.message}
				</Alert>
			) : (
				<Loading what={t`your mailbox`} />
			)}
		</main>
	);
}

function SignInOwn({ onDone }: { onDone: () => void }) {
	const [address, setAddress] = useState("");
	const [password, setPassword] = useState("");
	const signIn = useMutation({ mutationFn: () => own.signIn(address, password), onSuccess: onDone });
	return (
		<main className={classes.page}>
			<form
				className={classes.card}
				onSubmit={(e) => {
					e.preventDefault();
					signIn.mutate();
				}}
			>
				<Stack gap="sm">
					<div>
						<Title order={1} size="h2">
							<Trans>Your mailbox</Trans>
						</Title>
						<Text size="sm" c="dimmed">
							<Trans>Sign in to change its password, its automatic reply and the passwords of your programs.</Trans>
						</Text>
					</div>
					<NotLetIn />
					{signIn.error && (
						<Alert color="buoy" role="alert" p="xs">
							{signIn.error.message}
						</Alert>
					)}
					<TextInput
						label={t`Address`}
						autoComplete="username"
						inputMode="email"
						required
						autoFocus
						value={address}
						onChange={(e) => setAddress(e.currentTarget.value)}
					/>
					<PasswordInput
						label={t`Password`}
						autoComplete="current-password"
						required
						value={password}
						onChange={(e) => setPassword(e.currentTarget.value)}
					/>
					<Button type="submit" loading={signIn.isPending}>
						<Trans>Sign in</Trans>
					</Button>
					<OtherWays of="mailbox" onDone={onDone} />
				</Stack>
			</form>
		</main>
	);
}

function Mailbox({ m, again, leave }: { m: OwnMailbox; again: () => void; leave: () => void }) {
	const out = useMutation({ mutationFn: own.signOut, onSettled: leave });
	const part = m.quota > 0 ? (100 * m.octets) / m.quota : 0;
	return (
		<main style={{ maxWidth: 860, margin: "0 auto", padding: 16 }}>
			<Stack gap="sm">
				<Group justify="space-between">
					<Title order={1} size="h2">
						{m.address}
					</Title>
					<Button size="xs" variant="default" onClick={() => out.mutate()}>
						<Trans>Sign out</Trans>
					</Button>
				</Group>
				<Text size="sm" c="dimmed">
					{count(m.messages)} <Trans>messages</Trans>,{" "}
					{m.quota > 0 ? t`${octets(m.octets)} of ${octets(m.quota)} used` : t`${octets(m.octets)} used, no limit`}
					{m.addresses.length > 0 && <Trans>; reached as {m.addresses.join(", ")} too</Trans>}
					{m.last_use.map((u) => (
						<span key={u.protocol}>
							; {protocols[u.protocol]} <When time={u.at} />
						</span>
					))}
				</Text>
				{m.quota > 0 && (
					<Progress
						value={part}
						color={part >= 95 ? "buoy" : part >= 80 ? "brass" : "kelp"}
						aria-label={t`${Math.round(part)} percent of the quota`}
					/>
				)}
				<AutomaticReply m={m} again={again} />
				{(m.may_forward !== "no" || m.forward_to.length > 0) && <Forward m={m} again={again} />}
				<AppPasswords items={m.app_passwords} may add={own.addApp} revoke={own.revokeApp} onChange={again} />
				<NewPassword />
				<HeldMessages m={m} />
			</Stack>
		</main>
	);
}

function Part({ id, title, children }: { id: string; title: string; children: ReactNode }) {
	return (
		<section className="surface" aria-labelledby={id}>
			<Stack gap="xs" p="sm">
				<Title order={2} size="h5" id={id}>
					{title}
				</Title>
				{children}
			</Stack>
		</section>
	);
}

/** Said says how a change went. */
function Said({ error, done, text }: { error: Error | null; done: boolean; text: string }) {
	return error ? (
		<Alert color="buoy" role="alert" p="xs">
			{error.message}
		</Alert>
	) : done ? (
		<Text size="sm" role="status">
			{text}
		</Text>
	) : null;
}

function AutomaticReply({ m, again }: { m: OwnMailbox; again: () => void }) {
	const [reply, setReply] = useState(m.automatic_reply ?? {});
	const save = useMutation({
		mutationFn: (r: NonNullable<OwnChange["automatic_reply"]>) => own.change({ automatic_reply: r }),
		onSuccess: again,
	});
	return (
		<Part id="reply" title={t`Automatic reply`}>
			<Text size="sm" c="dimmed">
				<Trans>Sent once a week to each person who writes to you, while it is set.</Trans>
			</Text>
			<Textarea
				size="xs"
				label={t`To people of this server`}
				autosize
				minRows={2}
				maxLength={5000}
				value={reply.inside ?? ""}
				onChange={(e) => setReply({ ...reply, inside: e.currentTarget.value })}
			/>
			<Textarea
				size="xs"
				label={t`To everybody else; without it they get none`}
				autosize
				minRows={2}
				maxLength={5000}
				value={reply.outside ?? ""}
				onChange={(e) => setReply({ ...reply, outside: e.currentTarget.value })}
			/>
			<Group gap="xs">
				<TextInput
					size="xs"
					type="date"
					label={t`First day`}
					value={reply.from ?? ""}
					onChange={(e) => setReply({ ...reply, from: e.currentTarget.value || undefined })}
				/>
				<TextInput
					size="xs"
					type="date"
					label={t`Last day`}
					value={reply.until ?? ""}
					onChange={(e) => setReply({ ...reply, until: e.currentTarget.value || undefined })}
				/>
			</Group>
			<Said error={save.error} done={save.isSuccess} text={t`It is saved.`} />
			<Group gap="xs">
				<Button size="xs" onClick={() => save.mutate(reply)} loading={save.isPending}>
					<Trans>Save the reply</Trans>
				</Button>
				{m.automatic_reply && (
					<Button
						size="xs"
						variant="default"
						onClick={() => {
							setReply({});
							save.mutate({});
						}}
					>
						<Trans>Take it away</Trans>
					</Button>
				)}
			</Group>
		</Part>
	);
}

function Forward({ m, again }: { m: OwnMailbox; again: () => void }) {
	const [to, setTo] = useState(m.forward_to.join(", "));
	const [keep, setKeep] = useState(m.keep_copy);
	const save = useMutation({
		mutationFn: () => own.change({ forward_to: to.split(/[\s,;]+/).filter(Boolean), keep_copy: keep }),
		onSuccess: again,
	});
	const may = m.may_forward !== "no";
	return (
		<Part id="forward" title={t`Forward`}>
			<TextInput
				size="xs"
				label={t`Where your mail goes on to`}
				description={
					m.may_forward === "inside"
						? t`Addresses of this server's domains, with commas between.`
						: may
							? t`Addresses, with commas between.`
							: t`Set by your administrator.`
				}
				value={to}
				onChange={(e) => setTo(e.currentTarget.value)}
				disabled={!may}
			/>
			<Checkbox
				size="xs"
				label={t`What is forwarded stays here too`}
				checked={keep}
				onChange={(e) => setKeep(e.currentTarget.checked)}
				disabled={!may}
			/>
			<Said error={save.error} done={save.isSuccess} text={t`It is saved.`} />
			{may && (
				<Button size="xs" w="fit-content" onClick={() => save.mutate()} loading={save.isPending}>
					<Trans>Save the forward</Trans>
				</Button>
			)}
		</Part>
	);
}

function NewPassword() {
	const [done, setDone] = useState(false);
	return (
		<Part id="own-password" title={t`Password`}>
			<Said error={null} done={done} text={t`Your password is changed. Programs that use it ask for the new one.`} />
			<PasswordForm
				send={own.password}
				note={t`Programs that are signed in have to sign in again.`}
				onDone={() => setDone(true)}
			/>
		</Part>
	);
}

function HeldMessages({ m }: { m: OwnMailbox }) {
	if (m.held.length === 0) {
		return null;
	}
	return (
		<Part id="held" title={t`Messages to you that are held`}>
			<Text size="sm" c="dimmed">
				<Trans>Your administrator looks at them. If you wait for one, ask.</Trans>
			</Text>
			<Table verticalSpacing={4}>
				<Table.Thead>
					<Table.Tr>
						<Table.Th>
							<Trans>Received</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>From</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Subject</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Why</Trans>
						</Table.Th>
					</Table.Tr>
				</Table.Thead>
				<Table.Tbody>
					{m.held.map((h) => (
						<Table.Tr key={h.id}>
							<Table.Td>{h.received_at && <When time={h.received_at} />}</Table.Td>
							<Table.Td>{h.sender || "<>"}</Table.Td>
							<Table.Td>{h.subject}</Table.Td>
							<Table.Td>{h.why}</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
		</Part>
	);
}
