import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Group, Stack, Table, Text, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { type PublishStep, sound } from "../api/sound";
import classes from "./publish.module.css";
import { RecordView } from "./sound";
import { Failed, Loading } from "./states";
import { plural } from "./text";
import { When } from "./when";

/** What would be published for a domain, as differences, and the button that does it. */
export function PublishPlan({ domain, points, close }: { domain: string; points: string[]; close: () => void }) {
	const client = useQueryClient();
	const plan = useMutation({ mutationFn: () => sound.plan(domain, points) });
	const make = useMutation({
		mutationFn: (mark: string) => sound.publish(domain, points, mark),
		onSettled: () => void client.invalidateQueries(),
	});
	const look = plan.mutate;
	useEffect(() => look(), [look]);
	const shown = make.data ?? plan.data;
	const able = shown?.steps.filter((s) => s.change) ?? [];
	const byHand = shown?.steps.filter((s) => !s.change) ?? [];
	const failed = able.filter((s) => s.failed).length;
	return (
		<section className="surface" aria-labelledby="publish" aria-live="polite">
			<Group justify="space-between" p="sm" align="start">
				<div>
					<Title order={2} size="h5" id="publish">
						<Trans>Publish in DNS</Trans>
					</Title>
					<Text size="sm" c="dimmed">
						{make.data
							? failed > 0
								? t`${failed} of ${able.length} changes were not made.`
								: t`Done: ${make.data.score.toFixed(1)} of 10 now. Each change can be taken back, below.`
							: t`Nothing is changed before you press the button. Others' records at the same names stay.`}
					</Text>
				</div>
				<Group gap="xs">
					{!make.data && able.length > 0 && plan.data && (
						<Button onClick={() => make.mutate(plan.data.mark)} loading={make.isPending}>
							{t`Publish ${plural(able.length, t`change`, t`changes`)}`}
						</Button>
					)}
					<Button variant="default" onClick={close}>
						<Trans>Close</Trans>
					</Button>
				</Group>
			</Group>
			{plan.isPending && <Loading what={t`what DNS has now`} />}
			{plan.error && <Failed error={plan.error} />}
			{make.error && <Failed error={make.error} />}
			{shown && shown.steps.length === 0 && (
				<Text size="sm" p="sm">
					<Trans>There is nothing to publish: DNS has what readiness asks for.</Trans>
				</Text>
			)}
			{able.map((s) => (
				<Difference key={s.record.name + s.record.type} step={s} />
			))}
			{byHand.length > 0 && (
				<div className={classes.step}>
					<Text fw={600} size="sm">
						<Trans>To be put in by hand</Trans>
					</Text>
				</div>
			)}
			{byHand.map((s) => (
				<div key={s.record.zone_line} className={classes.step}>
					<Text size="sm" mb={4}>
						{s.by_hand}
					</Text>
					<RecordView record={s.record} />
				</div>
			))}
		</section>
	);
}

function Difference({ step: s }: { step: PublishStep }) {
	return (
		<article className={classes.step}>
			<Group justify="space-between" gap="xs">
				<Text size="sm" fw={600} className="mono" style={{ overflowWrap: "anywhere" }}>
					{s.record.name} {s.record.type}
				</Text>
				<Text size="xs" c="dimmed">
					{t`at ${s.server ?? ""}`}
				</Text>
			</Group>
			<pre className={`mono ${classes.values}`}>
				{(s.change?.removed ?? []).map((v) => (
					<span key={`-${v}`} className={classes.removed}>{`− ${v}\n`}</span>
				))}
				{(s.change?.added ?? []).map((v) => (
					<span key={`+${v}`} className={classes.added}>{`+ ${v}\n`}</span>
				))}
			</pre>
			{s.seen && (
				<Text size="sm" c="dimmed">
					<Trans>Published; {s.seen}.</Trans>
				</Text>
			)}
			{s.failed && (
				<Alert color="buoy" variant="light" p="xs" title={t`Not published`}>
					{s.failed}
				</Alert>
			)}
		</article>
	);
}

/** Records that we published for a domain, each with the way back; nothing where there are none. */
export function Published({ domain, may }: { domain: string; may: boolean }) {
	const client = useQueryClient();
	const list = useQuery({ queryKey: ["dns-changes", domain], queryFn: () => sound.dnsChanges(domain) });
	const back = useMutation({
		mutationFn: sound.takeBack,
		onSuccess: (c) => notifications.show({ color: "kelp", message: t`${c.change.name} is as it was before.` }),
		onError: (e) => notifications.show({ color: "buoy", title: t`Not taken back`, message: e.message }),
		onSettled: () => void client.invalidateQueries(),
	});
	const items = list.data?.items ?? [];
	if (items.length === 0) {
		return null;
	}
	return (
		<section className="surface" aria-labelledby="published">
			<Title order={2} size="h5" id="published" p="sm" pb={4}>
				<Trans>Published by us</Trans>
			</Title>
			<Table.ScrollContainer minWidth={640}>
				<Table verticalSpacing={4} horizontalSpacing="sm">
					<Table.Tbody>
						{items.map((c) => (
							<Table.Tr key={c.id} style={{ verticalAlign: "top" }}>
								<Table.Td w={110}>
									<When time={c.at} />
								</Table.Td>
								<Table.Td>
									<Text size="sm" fw={600} className="mono">
										{c.change.name} {c.change.type}
									</Text>
									<Stack gap={0}>
										{(c.change.added ?? []).map((v) => (
											<Text key={v} size="xs" className="mono" style={{ overflowWrap: "anywhere" }}>
												+ {v}
											</Text>
										))}
										{(c.change.removed ?? []).map((v) => (
											<Text key={v} size="xs" c="dimmed" className="mono" style={{ overflowWrap: "anywhere" }}>
												− {v}
											</Text>
										))}
									</Stack>
								</Table.Td>
								<Table.Td w={140}>{c.who}</Table.Td>
								<Table.Td w={150} ta="right">
									{c.back_at ? (
										<Text size="sm" c="dimmed">
											<Trans>
												taken back <When time={c.back_at} />
											</Trans>
										</Text>
									) : (
										may && (
											<Button
												size="compact-xs"
												variant="subtle"
												onClick={() => back.mutate(c.id)}
												loading={back.isPending && back.variables === c.id}
												aria-label={t`Take back the change of ${c.change.name} ${c.change.type}`}
											>
												<Trans>Take back</Trans>
											</Button>
										)
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
