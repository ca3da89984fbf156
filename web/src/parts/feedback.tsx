import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Group, Table, Text, TextInput, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Feedback as Reported, type ReportedSender, sound } from "../api/sound";
import classes from "./feedback.module.css";
import { useMayWork } from "./may";
import { Result } from "./sound";
import { count } from "./text";

/** What others report of a domain: who sends in its name, what was proved, how TLS fares. */
export function Feedback({ domain }: { domain: string }) {
	const x = useQuery({ queryKey: ["feedback", domain], queryFn: () => sound.feedback(domain) }).data;
	if (!x || (x.messages === 0 && x.tls.length === 0)) {
		return null;
	}
	return (
		<section className="surface" aria-labelledby="feedback">
			<div style={{ padding: "10px 14px 6px" }}>
				<Title order={2} size="h5" id="feedback">
					<Trans>What others report</Trans>
				</Title>
				<Text size="sm">{x.says}</Text>
				<Text size="xs" c="dimmed">
					<Trans>
						Of the last 30 days, by DMARC and TLS reports: {count(x.passed)} of {count(x.messages)} messages in its name
						were proved.
					</Trans>
				</Text>
			</div>
			<Days days={x.days} />
			<Senders senders={x.senders} />
			{x.tls.length > 0 && <Connections tls={x.tls} />}
		</section>
	);
}

function Days({ days }: { days: Reported["days"] }) {
	const most = Math.max(1, ...days.map((d) => d.messages));
	return (
		<div className={classes.days} role="img" aria-label={t`Messages by day, those that were not proved on top`}>
			{days.map((d) => (
				<div
					key={d.day}
					className={classes.day}
					title={t`${d.day.slice(0, 10)}: ${d.messages} messages, ${d.messages - d.passed} not proved`}
				>
					<div className={classes.proved} style={{ height: `${(100 * d.passed) / most}%` }} />
					<div className={classes.unproved} style={{ height: `${(100 * (d.messages - d.passed)) / most}%` }} />
				</div>
			))}
		</div>
	);
}

function Senders({ senders }: { senders: ReportedSender[] }) {
	return (
		<Table.ScrollContainer minWidth={720}>
			<Table verticalSpacing={4} horizontalSpacing="sm">
				<Table.Thead>
					<Table.Tr>
						<Table.Th>
							<Trans>Sent from</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Who it is</Trans>
						</Table.Th>
						<Table.Th ta="right">
							<Trans>Messages</Trans>
						</Table.Th>
						<Table.Th ta="right">
							<Trans>Proved</Trans>
						</Table.Th>
						<Table.Th ta="right">
							<Trans>Kept away</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Named by SPF and signatures</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Last day</Trans>
						</Table.Th>
					</Table.Tr>
				</Table.Thead>
				<Table.Tbody>
					{senders.map((s) => (
						<Sender key={s.source} sender={s} />
					))}
				</Table.Tbody>
			</Table>
		</Table.ScrollContainer>
	);
}

function Sender({ sender: s }: { sender: ReportedSender }) {
	const may = useMayWork();
	const client = useQueryClient();
	const [name, setName] = useState<string>();
	const save = useMutation({
		mutationFn: () => sound.nameSender(s.source, name ?? ""),
		onSuccess: () => setName(undefined),
		onError: (e) => notifications.show({ color: "buoy", title: t`Not named`, message: e.message }),
		onSettled: () => void client.invalidateQueries({ queryKey: ["feedback"] }),
	});
	return (
		<Table.Tr style={{ verticalAlign: "top" }}>
			<Table.Td className="mono">{s.source}</Table.Td>
			<Table.Td>
				{name === undefined ? (
					<Group gap={6} wrap="nowrap">
						{s.known ? s.name || t`proved each time` : <Result of="fail">{t`nobody knows`}</Result>}
						{may && (
							<Button
								size="compact-xs"
								variant="subtle"
								onClick={() => setName(s.name ?? "")}
								aria-label={t`Name ${s.source}`}
							>
								<Trans>Name…</Trans>
							</Button>
						)}
					</Group>
				) : (
					<form
						onSubmit={(e) => {
							e.preventDefault();
							save.mutate();
						}}
					>
						<Group gap={6} wrap="nowrap">
							<TextInput
								size="xs"
								autoFocus
								placeholder={t`newsletter provider`}
								aria-label={t`Who ${s.source} is`}
								value={name}
								onChange={(e) => setName(e.currentTarget.value)}
							/>
							<Button size="compact-xs" type="submit" loading={save.isPending}>
								<Trans>Save</Trans>
							</Button>
						</Group>
					</form>
				)}
			</Table.Td>
			<Table.Td ta="right">{count(s.messages)}</Table.Td>
			<Table.Td ta="right">{count(s.passed)}</Table.Td>
			<Table.Td ta="right">{count(s.refused)}</Table.Td>
			<Table.Td className="mono" style={{ overflowWrap: "anywhere" }}>
				{s.of.join(", ")}
			</Table.Td>
			<Table.Td>{s.last.slice(0, 10)}</Table.Td>
		</Table.Tr>
	);
}

function Connections({ tls }: { tls: Reported["tls"] }) {
	return (
		<Table.ScrollContainer minWidth={640}>
			<Table verticalSpacing={4} horizontalSpacing="sm">
				<Table.Thead>
					<Table.Tr>
						<Table.Th>
							<Trans>TLS to its hosts</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Policy</Trans>
						</Table.Th>
						<Table.Th ta="right">
							<Trans>Sessions</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Host</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Reported by</Trans>
						</Table.Th>
					</Table.Tr>
				</Table.Thead>
				<Table.Tbody>
					{tls.map((c) => (
						<Table.Tr key={c.policy + c.result + c.host}>
							<Table.Td>
								{c.result ? <Result of="fail">{c.result}</Result> : <Result of="pass">{t`well`}</Result>}
								{c.more && (
									<Text size="xs" c="dimmed">
										{c.more}
									</Text>
								)}
							</Table.Td>
							<Table.Td>{c.policy}</Table.Td>
							<Table.Td ta="right">{count(c.sessions)}</Table.Td>
							<Table.Td className="mono">{c.host}</Table.Td>
							<Table.Td>{c.reporters.join(", ")}</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
		</Table.ScrollContainer>
	);
}
