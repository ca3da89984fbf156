import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Table, Text } from "@mantine/core";
import type { Snag } from "../api/snags";
import { wordOf } from "./names";
import classes from "./snag.module.css";
import { count } from "./text";
import { To } from "./to";
import { When } from "./when";

const shapes: Record<string, string> = { critical: "▲", serious: "◆", minor: "●" };

/** Severity has a shape of its own, so that colour is never alone. */
export function Severity({ of }: { of: string }) {
	return (
		<span className={classes.severity} data-severity={of}>
			<span aria-hidden="true">{shapes[of]}</span> {wordOf(of)}
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
		return s.place.name ? t`our side, ${s.place.name}` : t`our side`;
	}
	return `${words[s.place.kind] ?? ""}${s.place.name}`;
}

const who: Record<string, string> = {
	us: t`we can fix it`,
	recipient: t`the recipient can fix it`,
	"remote-administrator": t`the remote administrator can fix it`,
	sender: t`the sender can fix it`,
	provider: t`our provider can fix it`,
	"block-list": t`the block list can fix it`,
	nobody: t`nobody needs to fix it`,
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
		return t`over: ${s.ended ?? ""}`;
	}
	return helps(s) === "yes" ? t`Waiting helps: ${s.usually ?? ""}` : s.advice;
}

/** Snags in a table, each leading to its page. */
export function SnagTable({ items }: { items: Snag[] }) {
	return (
		<Table.ScrollContainer minWidth={860}>
			<Table verticalSpacing={6} horizontalSpacing="sm" className={classes.table}>
				<Table.Thead>
					<Table.Tr>
						<Table.Th w={95}>
							<Trans>Severity</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>What and where</Trans>
						</Table.Th>
						<Table.Th ta="right" w={70}>
							<Trans>Waiting</Trans>
						</Table.Th>
						<Table.Th ta="right" w={60}>
							<Trans>Failed</Trans>
						</Table.Th>
						<Table.Th w={90}>
							<Trans>Since</Trans>
						</Table.Th>
						<Table.Th w={90}>
							<Trans>Last seen</Trans>
						</Table.Th>
						<Table.Th w={330}>
							<Trans>Next</Trans>
						</Table.Th>
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
									{s.mine && (
										<span className={classes.mine}>
											{" "}
											<Trans>· {s.mine} looks after it</Trans>
										</span>
									)}
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
