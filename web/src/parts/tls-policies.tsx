import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Group, Table, Text, TextInput, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { setup, type TLSPolicy, type TLSPolicyChecked } from "../api/setup";
import { useMayChange } from "./may";
import { Result } from "./sound";
import { soft } from "./text";
import { When } from "./when";

const results: Record<string, string> = { enforce: "pass", testing: "warning", none: "warning" };

/** What other domains say of TLS for mail to them, as far as it is known, and asking one anew. */
export function TLSPolicies() {
	const may = useMayChange();
	const client = useQueryClient();
	const [asked, setAsked] = useState("");
	const [found, setFound] = useState<TLSPolicyChecked | null>(null);
	const list = useInfiniteQuery({
		queryKey: ["tls-policies"],
		queryFn: ({ pageParam }) => setup.tlsPolicies(pageParam),
		initialPageParam: "",
		getNextPageParam: (last) => last.next || undefined,
	});
	const check = useMutation({
		mutationFn: (domain: string) => setup.askTLSPolicy(domain.trim()),
		onSuccess: setFound,
		onError: (e) => notifications.show({ color: "buoy", title: t`Not asked`, message: e.message }),
		onSettled: () => void client.invalidateQueries({ queryKey: ["tls-policies"] }),
	});
	const items = list.data?.pages.flatMap((p) => p.items) ?? [];
	return (
		<section className="surface" aria-labelledby="tls-policies">
			<Group justify="space-between" p="sm" pb={4}>
				<Title order={2} size="h5" id="tls-policies">
					<Trans>What other domains say of TLS</Trans>
				</Title>
				{may && (
					<form
						onSubmit={(e) => {
							e.preventDefault();
							check.mutate(asked);
						}}
					>
						<Group gap={6}>
							<TextInput
								size="xs"
								aria-label={t`Domain`}
								placeholder="saltmarsh.example"
								value={asked}
								onChange={(e) => setAsked(e.currentTarget.value)}
							/>
							<Button size="xs" type="submit" variant="default" loading={check.isPending} disabled={!asked.trim()}>
								<Trans>Ask now</Trans>
							</Button>
						</Group>
					</form>
				)}
			</Group>
			{found && <Checked found={found} />}
			{items.length === 0 && !list.isPending && (
				<Text size="sm" c="dimmed" px="sm" pb="sm">
					<Trans>Nothing is known yet. A domain is asked when mail to it leaves.</Trans>
				</Text>
			)}
			{items.length > 0 && (
				<Table.ScrollContainer minWidth={640}>
					<Table verticalSpacing={4} horizontalSpacing="sm">
						<Table.Tbody>
							{items.map((p) => (
								<Row key={p.domain} policy={p} ask={may ? () => check.mutate(p.domain) : undefined} />
							))}
						</Table.Tbody>
					</Table>
				</Table.ScrollContainer>
			)}
			{list.hasNextPage && (
				<Button m="sm" size="xs" variant="default" onClick={() => void list.fetchNextPage()} loading={list.isFetching}>
					<Trans>More</Trans>
				</Button>
			)}
		</section>
	);
}

function Row({ policy: p, ask }: { policy: TLSPolicy; ask?: () => void }) {
	return (
		<Table.Tr style={{ verticalAlign: "top" }}>
			<Table.Td w={210} className="mono">
				{soft(p.domain)}
			</Table.Td>
			<Table.Td w={120}>
				{p.policy ? (
					<Result of={results[p.policy.mode] ?? "warning"}>{p.policy.mode}</Result>
				) : (
					<Text size="sm" c="dimmed">
						<Trans>no policy</Trans>
					</Text>
				)}
			</Table.Td>
			<Table.Td>
				{p.policy && (
					<Text size="sm">
						<Trans>hosts {(p.policy.mx ?? []).join(", ")}</Trans>
						{p.ends_at && (
							<>
								{", "}
								<Trans>
									counts until <When time={p.ends_at} />
								</Trans>
							</>
						)}
					</Text>
				)}
				{p.fault && (
					<Text size="sm" c="buoy">
						{p.fault}
					</Text>
				)}
				<Text size="xs" c="dimmed">
					<Trans>
						asked <When time={p.asked_at} />
					</Trans>
				</Text>
			</Table.Td>
			<Table.Td ta="right">
				{ask && (
					<Button size="compact-xs" variant="default" onClick={ask} aria-label={t`Ask ${p.domain} again`}>
						<Trans>Ask again</Trans>
					</Button>
				)}
			</Table.Td>
		</Table.Tr>
	);
}

/** How each host of a domain is to be known. */
function Checked({ found: f }: { found: TLSPolicyChecked }) {
	return (
		<div role="status" style={{ padding: "0 12px 8px" }}>
			<Text size="sm" fw={600}>
				{f.domain}
				{": "}
				{f.fails || f.fault || (f.policy ? t`its policy says ${f.policy.mode}` : t`it publishes no policy`)}
			</Text>
			{f.hosts.map((h) => (
				<Text key={h.host} size="sm">
					<span className="mono">{h.host}</span>: {h.says}
					{!h.may && <b> {t`— it gets no mail`}</b>}
				</Text>
			))}
		</div>
	);
}
