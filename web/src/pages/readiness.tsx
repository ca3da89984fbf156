import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Stack, Table, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { sound } from "../api/sound";
import { Heading } from "../parts/heading";
import { Result } from "../parts/sound";
import { Failed, Loading, Nothing } from "../parts/states";
import { To } from "../parts/to";
import { When } from "../parts/when";

const never = "0001-01-01T00:00:00Z";

/** How ready our domains are: what the world sees of each. */
export function ReadinessPage() {
	const list = useQuery({ queryKey: ["readiness"], queryFn: sound.readiness });
	const items = [...(list.data?.items ?? [])].sort((a, b) => a.score - b.score);
	return (
		<Stack gap="md">
			<div>
				<Heading>
					<Trans>Readiness</Trans>
				</Heading>
				<Text size="sm" c="dimmed">
					<Trans>
						What the world sees of our domains: DNS, hosts, identity, reputation. Looked at every six hours; open one to
						look now.
					</Trans>
				</Text>
			</div>
			{list.error && <Failed error={list.error} />}
			{list.isPending && <Loading what={t`the domains`} />}
			{list.data && (
				<div className="surface">
					{items.length === 0 ? (
						<Nothing title={t`There is no domain of ours yet`}>
							<Trans>Add one under Set up, Domains.</Trans>
						</Nothing>
					) : (
						<Table.ScrollContainer minWidth={720}>
							<Table verticalSpacing={8} horizontalSpacing="sm">
								<Table.Thead>
									<Table.Tr>
										<Table.Th w={70} ta="right">
											<Trans>Of ten</Trans>
										</Table.Th>
										<Table.Th w={200}>
											<Trans>Domain</Trans>
										</Table.Th>
										<Table.Th w={260}>
											<Trans>Points</Trans>
										</Table.Th>
										<Table.Th>
											<Trans>What to do first</Trans>
										</Table.Th>
										<Table.Th w={100}>
											<Trans>Looked at</Trans>
										</Table.Th>
									</Table.Tr>
								</Table.Thead>
								<Table.Tbody>
									{items.map((r) => {
										const n = (result: string) => r.points.filter((p) => p.result === result).length;
										const looked = r.checked_at !== never;
										return (
											<Table.Tr key={r.domain} style={{ verticalAlign: "top" }}>
												<Table.Td ta="right" fw={650}>
													{looked ? r.score.toFixed(1) : "–"}
												</Table.Td>
												<Table.Td>
													<To to="/readiness/$domain" params={{ domain: r.domain }} inherit fw={600} className="mono">
														{r.name}
													</To>
													<Text size="xs" c="dimmed">
														{r.kind}
													</Text>
												</Table.Td>
												<Table.Td>
													{n("fail") > 0 && <Result of="fail">{t`${n("fail")} wrong`}</Result>}{" "}
													{n("warning") > 0 && <Result of="warning">{t`${n("warning")} weak`}</Result>}{" "}
													{n("pass") > 0 && <Result of="pass">{t`${n("pass")} right`}</Result>}
												</Table.Td>
												<Table.Td>
													<Text size="sm">{r.points[0]?.says ?? r.verdict}</Text>
												</Table.Td>
												<Table.Td>{looked ? <When time={r.checked_at} /> : t`not yet`}</Table.Td>
											</Table.Tr>
										);
									})}
								</Table.Tbody>
							</Table>
						</Table.ScrollContainer>
					)}
				</div>
			)}
		</Stack>
	);
}
