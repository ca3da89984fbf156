import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Group, Modal, Stack, Text, TextInput } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { type Snag, type SnagFix, snags } from "../api/snags";
import { useMayChange, useMayWork } from "./may";
import classes from "./snag.module.css";
import { count } from "./text";

/** The buttons of what can be done; what cannot be taken back asks first. */
export function Fixes({ snag }: { snag: Snag }) {
	const may = useMayWork();
	const settles = useMayChange();
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
		onError: (e) => notifications.show({ color: "buoy", title: t`Not done`, message: e.message }),
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
						disabled={!may || ((m.draft || m.do === "alias") && !settles)}
						loading={fix.isPending && fix.variables === m}
						onClick={() => {
							if (m.costs) {
								setAsking(m);
							} else if (m.do === "record" && m.domain) {
								void navigate({ to: "/readiness/$domain", params: { domain: m.domain } });
							} else {
								fix.mutate(m);
							}
						}}
					>
						{m.says}
						{m.draft && t` (draft)`}
					</Button>
				))}
			</Group>
			{!may && (
				<Text size="xs" c="dimmed">
					<Trans>Your role may look and not change.</Trans>
				</Text>
			)}
			<Modal opened={asking !== null} onClose={() => setAsking(null)} title={`${asking?.says}?`}>
				<Stack gap="sm">
					{asking?.do === "return" && (
						<Text size="sm">
							<Trans>{count(snag.waiting)} messages go back, each with a notice.</Trans>
						</Text>
					)}
					<Text size="sm">
						<Trans>It costs: {asking?.costs}.</Trans>
					</Text>
					{asking?.draft && (
						<Text size="sm">
							<Trans>It goes into the draft, to be rehearsed and applied.</Trans>
						</Text>
					)}
					{asking?.do === "return" && (
						<TextInput
							label={t`What the senders read`}
							placeholder={t`left empty, what the cause means to them`}
							value={say}
							onChange={(e) => setSay(e.currentTarget.value)}
						/>
					)}
					<Group justify="end">
						<Button variant="default" onClick={() => setAsking(null)}>
							<Trans>Keep it as it is</Trans>
						</Button>
						<Button color="buoy" loading={fix.isPending} onClick={() => asking && fix.mutate(asking)}>
							{asking?.do === "return" ? t`Send back` : asking?.says}
						</Button>
					</Group>
				</Stack>
			</Modal>
		</>
	);
}
