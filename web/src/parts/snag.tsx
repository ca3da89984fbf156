import { Button, Group, Modal, Stack, Table, Text, TextInput } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { type Snag, type SnagFix, snags } from "../api/snags";
import { useMayChange } from "./editor";
import classes from "./snag.module.css";
import { count } from "./text";
import { To } from "./to";
import { When } from "./when";

const shapes: Record<string, string> = { critical: "▲", serious: "◆", minor: "●" };

/** Severity has a shape of its own, so that colour is never alone. */
export function Severity({ of }: { of: string }) {
	return (
		<span className={classes.severity} data-severity={of}>
			<span aria-hidden="true">{shapes[of]}</span> {of}
		</span>
	);
}

/** Where a snag is, in words. */
export function where(s: Snag): string {
	const words: Record<string, string> = {
		route: "route ",
		account: "account ",
		client: "client ",
		sender: "mail of ",
	};
	if (s.place.kind === "ourselves") {
		return s.place.name ? `our side, ${s.place.name}` : "our side";
	}
	return `${words[s.place.kind] ?? ""}${s.place.name}`;
}

const who: Record<string, string> = {
	us: "we can fix it",
	recipient: "the recipient can fix it",
	"remote-administrator": "the remote administrator can fix it",
	sender: "the sender can fix it",
	provider: "our provider can fix it",
	"block-list": "the block list can fix it",
	nobody: "nobody needs to fix it",
};

export const whoCan = (s: Snag) => who[s.who_can_fix] ?? s.who_can_fix;

/** Whether waiting helps: programs read true, false or "unknown". */
export function helps(c: { waiting_helps: boolean | "unknown" }): "yes" | "no" | "not known" {
	if (c.waiting_helps === "unknown") {
		return "not known";
	}
	return c.waiting_helps ? "yes" : "no";
}

/** What to do next, in a few words. */
export function nextStep(s: Snag): string {
	if (s.state === "closed") {
		return `over: ${s.ended}`;
	}
	return helps(s) === "yes" ? `Waiting helps: ${s.usually}` : s.advice;
}

/** Snags in a table, each leading to its page. */
export function SnagTable({ items }: { items: Snag[] }) {
	return (
		<Table.ScrollContainer minWidth={860}>
			<Table verticalSpacing={6} horizontalSpacing="sm" className={classes.table}>
				<Table.Thead>
					<Table.Tr>
						<Table.Th w={95}>Severity</Table.Th>
						<Table.Th>What and where</Table.Th>
						<Table.Th ta="right" w={70}>
							Waiting
						</Table.Th>
						<Table.Th ta="right" w={60}>
							Failed
						</Table.Th>
						<Table.Th w={90}>Since</Table.Th>
						<Table.Th w={90}>Last seen</Table.Th>
						<Table.Th w={330}>Next</Table.Th>
					</Table.Tr>
				</Table.Thead>
				<Table.Tbody>
					{items.map((s) => (
						<Table.Tr key={s.id}>
							<Table.Td>
								<Severity of={s.severity} />
							</Table.Td>
							<Table.Td>
								<To to="/snags/$id" params={{ id: s.id }} inherit fw={600}>
									{s.title}
								</To>
								<div className="mono">
									{where(s)}
									{s.mine && <span className={classes.mine}> · {s.mine} looks after it</span>}
								</div>
							</Table.Td>
							<Table.Td ta="right">{s.waiting > 0 ? count(s.waiting) : "–"}</Table.Td>
							<Table.Td ta="right">{s.failed > 0 ? count(s.failed) : "–"}</Table.Td>
							<Table.Td>
								<When time={s.since} />
							</Table.Td>
							<Table.Td>
								<When time={s.last_at} />
							</Table.Td>
							<Table.Td>
								<Text size="xs">
									{nextStep(s)}
									{s.state === "open" && (
										<Text span inherit c="dimmed">
											{" "}
											({whoCan(s)})
										</Text>
									)}
								</Text>
							</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
		</Table.ScrollContainer>
	);
}

/** The buttons of what can be done; what cannot be taken back asks first. */
export function Fixes({ snag }: { snag: Snag }) {
	const may = useMayChange();
	const client = useQueryClient();
	const navigate = useNavigate();
	const [asking, setAsking] = useState<SnagFix | null>(null);
	const [say, setSay] = useState("");
	const fix = useMutation({
		mutationFn: (m: SnagFix) => snags.fix(snag.id, { do: m.do, route: m.route, alias: m.alias, say: say || undefined }),
		onSuccess: (done) => {
			setAsking(null);
			notifications.show({ message: done.text });
			void client.invalidateQueries();
		},
		onError: (e) => notifications.show({ color: "buoy", title: "Not done", message: e.message }),
	});
	if (snag.fixes.length === 0) {
		return null;
	}
	return (
		<>
			<Group gap="xs">
				{snag.fixes.map((m) => (
					<Button
						key={m.do + (m.route ?? "") + (m.alias ?? "")}
						size="sm"
						className={classes.fix}
						variant={m.first ? "filled" : "default"}
						disabled={!may}
						loading={fix.isPending && fix.variables === m}
						onClick={() => {
							if (m.costs) {
								setAsking(m);
							} else if (m.do === "record" && m.domain) {
								void navigate({ to: "/readiness/$domain", params: { domain: m.domain } as never });
							} else {
								fix.mutate(m);
							}
						}}
					>
						{m.says}
						{m.draft && " (draft)"}
					</Button>
				))}
			</Group>
			{!may && (
				<Text size="xs" c="dimmed">
					Your role may look and not change.
				</Text>
			)}
			<Modal opened={asking !== null} onClose={() => setAsking(null)} title={`${asking?.says}?`}>
				<Stack gap="sm">
					{asking?.do === "return" && (
						<Text size="sm">{count(snag.waiting)} messages go back, each with a notice.</Text>
					)}
					<Text size="sm">It costs: {asking?.costs}.</Text>
					{asking?.draft && <Text size="sm">It goes into the draft, to be rehearsed and applied.</Text>}
					{asking?.do === "return" && (
						<TextInput
							label="What the senders read"
							placeholder="left empty, what the cause means to them"
							value={say}
							onChange={(e) => setSay(e.currentTarget.value)}
						/>
					)}
					<Group justify="end">
						<Button variant="default" onClick={() => setAsking(null)}>
							Keep it as it is
						</Button>
						<Button color="buoy" loading={fix.isPending} onClick={() => asking && fix.mutate(asking)}>
							{asking?.do === "return" ? "Send back" : asking?.says}
						</Button>
					</Group>
				</Stack>
			</Modal>
		</>
	);
}
