import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Anchor, Button, FileButton, Group, Progress, Stack, Table, Text } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { IconDownload, IconFolderOpen } from "@tabler/icons-react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Archive, openArchive, tracing } from "../api/trace";
import { ArchivedDays } from "../parts/archived-days";
import { useMay } from "../parts/may";
import { Failed, Loading, Nothing } from "../parts/states";
import { count, octets } from "../parts/text";
import { moment } from "../parts/time";
import { To } from "../parts/to";
import { exact, When } from "../parts/when";

const day = 86_400_000;

/** Archives of what happened: open one, or take one out. */
export function ArchivesView() {
	const list = useQuery({ queryKey: ["archives"], queryFn: tracing.archives });
	const may = useMay("records");
	const client = useQueryClient();
	const [share, setShare] = useState<number | null>(null);
	const [fault, setFault] = useState("");
	const open = async (file: File | null) => {
		if (!file) {
			return;
		}
		setShare(0);
		setFault("");
		try {
			const a = await openArchive(file, setShare);
			notifications.show({
				message: a.known ? t`${a.name} was open already.` : t`${a.name} is open: ${count(a.lines)} lines.`,
			});
		} catch (e) {
			setFault(`${file.name}: ${(e as Error).message}`);
		}
		setShare(null);
		void client.invalidateQueries({ queryKey: ["archives"] });
	};
	const since = new Date(Math.floor((Date.now() - day) / day) * day).toISOString();
	const until = new Date(Math.floor(Date.now() / day) * day).toISOString();
	return (
		<Stack gap="sm">
			<Group gap="sm">
				<FileButton onChange={(f) => void open(f)} disabled={!may || share !== null}>
					{(props) => (
						<Button {...props} size="xs" leftSection={<IconFolderOpen size={14} />}>
							<Trans>Open an archive</Trans>
						</Button>
					)}
				</FileButton>
				{may && (
					<Button
						size="xs"
						variant="default"
						component="a"
						href={`/api/v1/log/export?since=${since}&until=${until}`}
						leftSection={<IconDownload size={14} />}
					>
						<Trans>Export yesterday</Trans>
					</Button>
				)}
				<Text size="xs" c="dimmed">
					<Trans>
						Archives are made by gull log export, here or elsewhere. They are kept apart from this server's own records.
					</Trans>
				</Text>
			</Group>
			{share !== null && (
				<Progress.Root size="lg" aria-label={t`Reading the archive`}>
					<Progress.Section value={share * 100} animated>
						<Progress.Label>{share < 1 ? `${Math.round(share * 100)} %` : t`counting …`}</Progress.Label>
					</Progress.Section>
				</Progress.Root>
			)}
			{fault && <Failed error={new Error(fault)} />}
			<ArchivedDays may={may} />
			{!list.data ? (
				list.error ? (
					<Failed error={list.error} />
				) : (
					<Loading what={t`the archives`} />
				)
			) : (
				<div className="surface">
					{list.data.items.length === 0 ? (
						<Nothing title={t`No archive is open`}>
							<Trans>Open a file to search it, read its transcripts and see its reports.</Trans>
						</Nothing>
					) : (
						<Table horizontalSpacing="sm" verticalSpacing={5}>
							<Table.Thead>
								<Table.Tr>
									<Table.Th>
										<Trans>Archive</Trans>
									</Table.Th>
									<Table.Th>
										<Trans>Of</Trans>
									</Table.Th>
									<Table.Th>
										<Trans>Period</Trans>
									</Table.Th>
									<Table.Th ta="right">
										<Trans>Lines</Trans>
									</Table.Th>
									<Table.Th ta="right">
										<Trans>Size</Trans>
									</Table.Th>
									<Table.Th ta="right">
										<Trans>Damaged</Trans>
									</Table.Th>
									<Table.Th>
										<Trans>Opened</Trans>
									</Table.Th>
									<Table.Th>
										<Trans>Look into it</Trans>
									</Table.Th>
								</Table.Tr>
							</Table.Thead>
							<Table.Tbody>
								{list.data.items.map((a) => (
									<Line
										key={a.id}
										archive={a}
										may={may}
										onClose={() =>
											void tracing.close(a.id).then(() => {
												void client.invalidateQueries({ queryKey: ["archives"] });
												void client.invalidateQueries({ queryKey: ["archived-days"] });
											})
										}
									/>
								))}
							</Table.Tbody>
						</Table>
					)}
				</div>
			)}
		</Stack>
	);
}

function Line({ archive: a, may, onClose }: { archive: Archive; may: boolean; onClose: () => void }) {
	return (
		<Table.Tr style={{ verticalAlign: "top" }}>
			<Table.Td fw={600}>{a.name}</Table.Td>
			<Table.Td>{a.about.host_name}</Table.Td>
			<Table.Td className="mono">
				{moment(a.about.since, false)} – {exact(a.about.until)}
			</Table.Td>
			<Table.Td ta="right">{count(a.lines)}</Table.Td>
			<Table.Td ta="right">{octets(a.bytes)}</Table.Td>
			<Table.Td ta="right">
				{count(a.damaged)}
				{a.faults.map((f) => (
					<Text size="xs" c="dimmed" key={f} ta="left">
						{f}
					</Text>
				))}
			</Table.Td>
			<Table.Td>
				<When time={a.opened_at} />
			</Table.Td>
			<Table.Td>
				<Group gap="sm">
					<To to="/trace" search={{ archive: a.id }} size="sm">
						<Trans>Messages</Trans>
					</To>
					<To to="/trace" search={{ archive: a.id, view: "sessions" }} size="sm">
						<Trans>Sessions</Trans>
					</To>
					<To to="/reports" search={{ archive: a.id, since: a.about.since, until: a.about.until }} size="sm">
						<Trans>Report</Trans>
					</To>
					{may && (
						<Anchor component="button" size="sm" onClick={onClose}>
							<Trans>Close</Trans>
						</Anchor>
					)}
				</Group>
			</Table.Td>
		</Table.Tr>
	);
}
