import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Badge, Button, Table } from "@mantine/core";
import type { PersonSession } from "../api/people";
import { When } from "./when";

const ways: Record<PersonSession["way"], string> = {
	password: t`password`,
	passkey: t`passkey`,
	"single sign-on": t`single sign-on`,
};

/** Open sessions, each with what ends it. */
export function PersonSessions({ items, onEnd }: { items: PersonSession[]; onEnd: (id: number) => void }) {
	return (
		<Table.ScrollContainer minWidth={560}>
			<Table verticalSpacing={4} horizontalSpacing="sm">
				<Table.Thead>
					<Table.Tr>
						<Table.Th>
							<Trans>Last used</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Began</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>From</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Signed in by</Trans>
						</Table.Th>
						<Table.Th>
							<Trans>Program</Trans>
						</Table.Th>
						<Table.Td />
					</Table.Tr>
				</Table.Thead>
				<Table.Tbody>
					{items.map((s) => (
						<Table.Tr key={s.id}>
							<Table.Td>
								<When time={s.last_at} />
							</Table.Td>
							<Table.Td>
								<When time={s.made_at} />
							</Table.Td>
							<Table.Td className="mono">{s.client || "–"}</Table.Td>
							<Table.Td>{ways[s.way]}</Table.Td>
							<Table.Td style={{ overflowWrap: "anywhere" }}>{s.program || "–"}</Table.Td>
							<Table.Td ta="right">
								{s.mine ? (
									<Badge tt="none" variant="outline" color="gray">
										<Trans>this one</Trans>
									</Badge>
								) : (
									<Button
										size="compact-xs"
										variant="subtle"
										color="buoy"
										aria-label={t`End session ${s.id}`}
										onClick={() => onEnd(s.id)}
									>
										<Trans>End</Trans>
									</Button>
								)}
							</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
		</Table.ScrollContainer>
	);
}
