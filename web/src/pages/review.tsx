import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Checkbox, Group, Modal, SegmentedControl, Stack, Text, TextInput } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Finding, sound } from "../api/sound";
import { Heading } from "../parts/heading";
import { useMayChange } from "../parts/may";
import { Severity } from "../parts/snag";
import classes from "../parts/sound.module.css";
import { Failed, Loading, Nothing } from "../parts/states";
import { To } from "../parts/to";
import { When } from "../parts/when";

/** Findings of the settings, why they matter, and their fixes. */
export function ReviewPage() {
	const [draft, setDraft] = useState(false);
	const [all, setAll] = useState(false);
	const review = useQuery({ queryKey: ["review", draft], queryFn: () => sound.review(draft) });
	const items = review.data?.items ?? [];
	const open = items.filter((w) => !w.accepted);
	const n = (s: string) => open.filter((w) => w.severity === s).length;
	return (
		<Stack gap="md">
			<Group justify="space-between">
				<div>
					<Heading>
						<Trans>Review</Trans>
					</Heading>
					{review.data && (
						<Text size="sm" c="dimmed">
							<Trans>
								{n("critical")} critical, {n("serious")} serious, {n("minor")} minor; {review.data.rules} kinds of
								finding were looked for.
							</Trans>
						</Text>
					)}
				</div>
				<Group>
					<Checkbox
						size="xs"
						label={t`Accepted ones too`}
						checked={all}
						onChange={(e) => setAll(e.currentTarget.checked)}
					/>
					<SegmentedControl
						size="xs"
						aria-label={t`Of which settings`}
						value={draft ? "draft" : "force"}
						onChange={(v) => setDraft(v === "draft")}
						data={[
							{ value: "force", label: t`In force` },
							{ value: "draft", label: t`Draft` },
						]}
					/>
				</Group>
			</Group>
			{review.error && <Failed error={review.error} />}
			{review.isPending && <Loading what={t`the settings`} />}
			{review.data && (
				<section className="surface" aria-label={t`Findings`}>
					{open.length === 0 && !all && (
						<Nothing title={t`No finding was found`}>
							<Trans>{review.data.rules} kinds of finding were looked for.</Trans>
						</Nothing>
					)}
					{items
						.filter((w) => all || !w.accepted)
						.map((w) => (
							<One key={w.key} finding={w} />
						))}
				</section>
			)}
		</Stack>
	);
}

function One({ finding: w }: { finding: Finding }) {
	const may = useMayChange();
	const client = useQueryClient();
	const [asking, setAsking] = useState(false);
	const [because, setBecause] = useState("");
	const options = {
		onSuccess: () => {
			setAsking(false);
			void client.invalidateQueries();
		},
		onError: (e: Error) => notifications.show({ color: "buoy", title: t`Not done`, message: e.message }),
	};
	const fix = useMutation({
		...options,
		mutationFn: () => sound.fix(w.key),
		onSuccess: (done) => {
			notifications.show({ message: done.text });
			void client.invalidateQueries();
		},
	});
	const accept = useMutation({ ...options, mutationFn: () => sound.accept(w.key, because) });
	const reopen = useMutation({ ...options, mutationFn: () => sound.reopen(w.key) });
	return (
		<article className={classes.point}>
			<Group justify="space-between" align="start" wrap="nowrap" gap="md">
				<div className={classes.lead}>
					<div className={classes.mark}>
						<Severity of={w.severity} />
					</div>
					<div>
						<Text>
							<b>{w.title}</b>{" "}
							<Text span size="sm" c="dimmed">
								{w.where}
							</Text>
						</Text>
						<Text size="sm">
							<Trans>
								Found: {w.text}. {w.why}
							</Trans>
						</Text>
						{w.fix && (
							<Text size="sm" c="dimmed">
								<Trans>If fixed: {w.fix.effect}</Trans>
							</Text>
						)}
						{!w.fix && <Text size="sm">{w.by_hand}</Text>}
						{!w.fix && w.where.startsWith("domain ") && (
							<To to="/readiness/$domain" params={{ domain: w.where.split(" ")[1] ?? "" }} size="sm">
								<Trans>Its readiness and keys</Trans>
							</To>
						)}
						{w.accepted && (
							<Text size="sm" c="dimmed">
								<Trans>
									Accepted by {w.accepted.who} <When time={w.accepted.at} />: {w.accepted.because}
								</Trans>
							</Text>
						)}
					</div>
				</div>
				{may && (
					<Stack gap={6} align="stretch" style={{ flexShrink: 0, maxWidth: 260 }}>
						{w.fix && !w.accepted && (
							<Button
								size="compact-sm"
								styles={{ label: { whiteSpace: "normal" }, root: { height: "auto", paddingBlock: 4 } }}
								onClick={() => fix.mutate()}
								loading={fix.isPending}
							>
								{w.fix.says}
							</Button>
						)}
						{w.accepted ? (
							<Button size="compact-sm" variant="default" onClick={() => reopen.mutate()}>
								<Trans>Open again</Trans>
							</Button>
						) : (
							<Button size="compact-sm" variant="default" onClick={() => setAsking(true)}>
								<Trans>Accept …</Trans>
							</Button>
						)}
					</Stack>
				)}
			</Group>
			<Modal opened={asking} onClose={() => setAsking(false)} title={t`Live with it: ${w.title}`}>
				<form
					onSubmit={(e) => {
						e.preventDefault();
						accept.mutate();
					}}
				>
					<TextInput
						label={t`Because`}
						description={t`For those who come after you`}
						value={because}
						onChange={(e) => setBecause(e.currentTarget.value)}
						data-autofocus
					/>
					<Group justify="end" mt="md">
						<Button type="submit" disabled={because.trim().length < 3} loading={accept.isPending}>
							<Trans>Accept</Trans>
						</Button>
					</Group>
				</form>
			</Modal>
		</article>
	);
}
