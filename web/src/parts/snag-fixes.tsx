import { Button, Group, Modal, Stack, Text, TextInput } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { type Snag, type SnagFix, snags } from "../api/snags";
import { useMayChange } from "./may";
import classes from "./snag.module.css";
import { count } from "./text";

/** The buttons of what can be done; what cannot be taken back asks first. */
export function Fixes({ snag }: { snag: Snag }) {
	const may = useMayChange();
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
		onError: (e) => notifications.show({ color: "buoy", title: "Not done", message: e.message }),
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
						disabled={!may}
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
						{m.draft && " (draft)"}
					</Button>
				))}
			</Group>
			{!may && (
				<Text size="xs" c="dimmed">
					Your role may look and not change.
				</Text>
			)}
			<Modal opened={asking !== null} onClose={() => setAsking(null)} title={`${asking?.says}?`}>
				<Stack gap="sm">
					{asking?.do === "return" && (
						<Text size="sm">{count(snag.waiting)} messages go back, each with a notice.</Text>
					)}
					<Text size="sm">It costs: {asking?.costs}.</Text>
					{asking?.draft && <Text size="sm">It goes into the draft, to be rehearsed and applied.</Text>}
					{asking?.do === "return" && (
						<TextInput
							label="What the senders read"
							placeholder="left empty, what the cause means to them"
							value={say}
							onChange={(e) => setSay(e.currentTarget.value)}
						/>
					)}
					<Group justify="end">
						<Button variant="default" onClick={() => setAsking(null)}>
							Keep it as it is
						</Button>
						<Button color="buoy" loading={fix.isPending} onClick={() => asking && fix.mutate(asking)}>
							{asking?.do === "return" ? "Send back" : asking?.says}
						</Button>
					</Group>
				</Stack>
			</Modal>
		</>
	);
}
