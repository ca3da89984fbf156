import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, FileInput, Group, Stack, Table, Text, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type CertificateState, setup } from "../api/setup";
import { useMayChange } from "./may";
import { Result } from "./sound";
import { When } from "./when";

const results: Record<string, string> = { shown: "pass", "ends soon": "warning", none: "fail", ended: "fail" };

/** The certificates in force: how each stands, who shows it, and what can be done about it. */
export function CertificateStates() {
	const list = useQuery({ queryKey: ["certificates"], queryFn: setup.certificates, refetchInterval: 15_000 });
	const items = list.data?.items ?? [];
	if (items.length === 0) {
		return null;
	}
	return (
		<section className="surface" aria-labelledby="in-force">
			<Title order={2} size="h5" id="in-force" p="sm" pb={4}>
				<Trans>In force</Trans>
			</Title>
			<Table.ScrollContainer minWidth={720}>
				<Table verticalSpacing={6} horizontalSpacing="sm">
					<Table.Tbody>
						{items.map((c) => (
							<Row key={c.name} certificate={c} />
						))}
					</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
		</section>
	);
}

function Row({ certificate: c }: { certificate: CertificateState }) {
	const may = useMayChange();
	const client = useQueryClient();
	const [uploading, setUploading] = useState(false);
	const renew = useMutation({
		mutationFn: () => setup.renew(c.name),
		onError: (e) => notifications.show({ color: "buoy", title: t`No certificate`, message: e.message }),
		onSettled: () => void client.invalidateQueries({ queryKey: ["certificates"] }),
	});
	return (
		<Table.Tr style={{ verticalAlign: "top" }}>
			<Table.Td w={150}>
				<Text size="sm" fw={600}>
					{c.name}
				</Text>
				<Result of={results[c.state] ?? "warning"}>{c.state}</Result>
			</Table.Td>
			<Table.Td>
				<Text size="sm">{c.says}</Text>
				<Text size="xs" c="dimmed">
					{(c.shown?.names ?? c.names).join(", ")}
					{c.shown && t`; by ${c.shown.issuer}`}
					{c.used_by.length > 0 ? t`; shown by ${c.used_by.join(", ")}` : t`; nobody shows it yet`}
				</Text>
				{c.shown && (
					<Text size="xs" c="dimmed">
						<Trans>
							had <When time={c.shown.made_at} />
						</Trans>
					</Text>
				)}
				{uploading && <Upload name={c.name} done={() => setUploading(false)} />}
			</Table.Td>
			<Table.Td w={190} ta="right">
				{may && (
					<Group gap={6} justify="flex-end">
						{c.from === "authority" && (
							<Button size="compact-xs" variant="default" onClick={() => renew.mutate()} loading={renew.isPending}>
								{c.shown ? t`Renew now` : t`Get it now`}
							</Button>
						)}
						{!uploading && (
							<Button
								size="compact-xs"
								variant="subtle"
								onClick={() => setUploading(true)}
								aria-label={t`Upload for ${c.name}`}
							>
								<Trans>Upload…</Trans>
							</Button>
						)}
					</Group>
				)}
			</Table.Td>
		</Table.Tr>
	);
}

function Upload({ name, done }: { name: string; done: () => void }) {
	const client = useQueryClient();
	const [chain, setChain] = useState<File | null>(null);
	const [key, setKey] = useState<File | null>(null);
	const send = useMutation({
		mutationFn: async (check: boolean) =>
			setup.upload(name, { chain: (await chain?.text()) ?? "", key: (await key?.text()) ?? "", check }),
		onSuccess: (x) => {
			if (x.kept) {
				notifications.show({ color: "kelp", message: t`The certificate is kept and shown.` });
				void client.invalidateQueries({ queryKey: ["certificates"] });
				done();
			}
		},
	});
	const x = send.data;
	return (
		<Stack gap={6} mt="xs">
			<Group gap="xs" align="end">
				<FileInput
					size="xs"
					w={210}
					label={t`Chain (PEM), its own first`}
					placeholder={t`choose a file`}
					value={chain}
					onChange={setChain}
				/>
				<FileInput
					size="xs"
					w={210}
					label={t`Key (PEM)`}
					placeholder={t`choose a file`}
					value={key}
					onChange={setKey}
				/>
				<Button size="xs" variant="default" disabled={!chain || !key} onClick={() => send.mutate(true)}>
					<Trans>Check</Trans>
				</Button>
				<Button
					size="xs"
					disabled={!chain || !key}
					onClick={() => send.mutate(false)}
					loading={send.isPending && !send.variables}
				>
					<Trans>Keep and show</Trans>
				</Button>
				<Button size="xs" variant="subtle" onClick={done}>
					<Trans>Cancel</Trans>
				</Button>
			</Group>
			{send.error && (
				<Alert color="buoy" variant="light" p="xs">
					{send.error.message}
				</Alert>
			)}
			{x && !x.kept && (
				<div aria-live="polite">
					<Text size="sm">
						<Trans>
							For {x.names.join(", ")}, by {x.issuer}, until <When time={x.until} />
						</Trans>
					</Text>
					{[...x.faults, ...x.warnings].map((f) => (
						<Text key={f} size="sm" c={x.faults.includes(f) ? "buoy" : "dimmed"}>
							{f}
						</Text>
					))}
				</div>
			)}
		</Stack>
	);
}
