import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Group, Modal, Stack, Text, TextInput } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { IconPlayerPause, IconPlayerPlay } from "@tabler/icons-react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Pause as PauseRecord, queue } from "../api/queue";
import { useTold } from "./act";
import { useMayWork } from "./may";
import { When } from "./when";

type Kind = PauseRecord["kind"];

const abouts: Record<Kind, string> = {
	lane: t`Mail for it is taken in and waits. What is in a transaction comes to its end.`,
	route: t`Mail by this route is taken in and waits. What is in a transaction comes to its end.`,
	listener: t`New clients are asked to come back (421). Messages that are being taken come to their end.`,
	node: t`It finishes what it has under way, gives back the rest and takes nothing new, until it is resumed; also over a restart.`,
	account: t`It sends nothing, and its sessions end. Its mailbox takes mail all the same.`,
	delivery: t`Mail is taken in and waits; nothing leaves, and nothing goes into mailboxes.`,
};

/** PauseButton stops something, or lets it go on. */
export function PauseButton({
	kind,
	name,
	paused,
	what,
}: {
	kind: Kind;
	name?: string;
	paused: boolean;
	what: string;
}) {
	const [open, setOpen] = useState(false);
	const mayChange = useMayWork();
	const told = useTold();
	const resume = useMutation({
		mutationFn: () => queue.resume({ kind, name }),
		onSuccess: (done) => told(done, false),
		onError: (e) => notifications.show({ color: "buoy", title: t`Still paused`, message: e.message }),
	});
	return (
		<>
			<Button
				size="xs"
				variant={paused ? "filled" : "default"}
				disabled={!mayChange}
				title={mayChange ? undefined : t`A viewer may look, not change`}
				leftSection={paused ? <IconPlayerPlay size={14} /> : <IconPlayerPause size={14} />}
				loading={resume.isPending}
				onClick={() => (paused ? resume.mutate() : setOpen(true))}
			>
				{paused ? t`Resume ${what}` : kind === "node" ? t`Drain` : t`Pause ${what}`}
			</Button>
			{open && <Pausing kind={kind} name={name} what={what} onClose={() => setOpen(false)} />}
		</>
	);
}

function Pausing({ kind, name, what, onClose }: { kind: Kind; name?: string; what: string; onClose: () => void }) {
	const [why, setWhy] = useState("");
	const [length, setLength] = useState("");
	const told = useTold();
	const pause = useMutation({
		mutationFn: () => queue.pause({ kind, name, why: why || undefined, for: length || undefined }),
		onSuccess: (done) => {
			told(done, true);
			onClose();
		},
	});
	return (
		<Modal opened onClose={onClose} title={kind === "node" ? t`Drain ${name ?? ""}` : t`Pause ${what}`}>
			<form
				onSubmit={(e) => {
					e.preventDefault();
					pause.mutate();
				}}
			>
				<Stack gap="sm">
					<Text size="sm">{abouts[kind]}</Text>
					<TextInput
						label={t`Why`}
						description={t`Shown to everybody, and kept on record`}
						value={why}
						onChange={(e) => setWhy(e.currentTarget.value)}
						data-autofocus
					/>
					<TextInput
						label={t`For`}
						description={t`Ends by itself after this; until somebody resumes it if empty`}
						placeholder="30m, 2h"
						value={length}
						onChange={(e) => setLength(e.currentTarget.value)}
					/>
					{pause.error && (
						<Alert color="buoy" title={t`Not paused`} role="alert">
							{pause.error.message}
						</Alert>
					)}
					<Group justify="end">
						<Button variant="default" onClick={onClose}>
							<Trans>Cancel</Trans>
						</Button>
						<Button type="submit" loading={pause.isPending}>
							{kind === "node" ? t`Drain` : t`Pause`}
						</Button>
					</Group>
				</Stack>
			</form>
		</Modal>
	);
}

/** Pauses say on top of the queue what people have stopped. */
export function Pauses({ pauses }: { pauses: PauseRecord[] }) {
	const shown = pauses.filter((p) => p.kind !== "lane");
	if (shown.length === 0) {
		return null;
	}
	return (
		<Alert color="brass" title={t`Stopped`}>
			<Stack gap={4}>
				{shown.map((p) => (
					<Group key={`${p.kind} ${p.name}`} gap="sm">
						<Text size="sm">
							<Trans>
								{p.kind === "delivery" ? t`All delivery` : `${p.kind} ${p.name}`} by {p.who} <When time={p.since} />
							</Trans>
							{p.until && (
								<Trans>
									, ends <When time={p.until} />
								</Trans>
							)}
							{p.why && `: ${p.why}`}
						</Text>
						<PauseButton kind={p.kind} name={p.name} paused what="" />
					</Group>
				))}
			</Stack>
		</Alert>
	);
}
