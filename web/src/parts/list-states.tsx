import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Table, Text, Title } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { setup } from "../api/setup";
import { count } from "./text";
import { To } from "./to";
import { When } from "./when";

/** ListStates are the lists in force: how large they are, who uses them, how their sources do. */
export function ListStates() {
	const lists = useQuery({ queryKey: ["list-states"], queryFn: setup.lists });
	const items = lists.data?.items ?? [];
	if (items.length === 0) {
		return null;
	}
	return (
		<section className="surface" aria-labelledby="in-force">
			<Title order={2} size="h5" id="in-force" p="sm" pb={4}>
				<Trans>In force</Trans>
			</Title>
			<Table.ScrollContainer minWidth={700}>
				<Table verticalSpacing={4} horizontalSpacing="sm">
					<Table.Thead>
						<Table.Tr>
							<Table.Th>
								<Trans>Name</Trans>
							</Table.Th>
							<Table.Th ta="right">
								<Trans>Entries</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Used by</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Source</Trans>
							</Table.Th>
						</Table.Tr>
					</Table.Thead>
					<Table.Tbody>
						{items.map((l) => (
							<Table.Tr key={l.name}>
								<Table.Td>{l.name}</Table.Td>
								<Table.Td ta="right">{count(l.entries)}</Table.Td>
								<Table.Td>
									{(l.uses ?? []).length === 0 && (
										<Text span size="sm" c="dimmed">
											<Trans>nothing</Trans>
										</Text>
									)}
									{(l.uses ?? []).map((u, i) => (
										<span key={u.section + u.name}>
											{i > 0 && ", "}
											<To to="/setup/$section" params={{ section: u.section }} search={{ item: u.name }} inherit>
												{u.name}
											</To>
										</span>
									))}
								</Table.Td>
								<Table.Td>
									{l.source && <span className="mono">{l.source}</span>}
									{l.read_at && (
										<>
											{" "}
											<Trans>
												read <When time={l.read_at} />
											</Trans>
										</>
									)}
									{l.trouble && (
										<Text size="sm" c="buoy">
											▲ {l.trouble}
											{l.read_at ? t`; the last copy stays in force` : ""}
										</Text>
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
