import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import {
	Alert,
	Progress as Bar,
	Button,
	Checkbox,
	Group,
	Menu,
	Modal,
	Radio,
	Select,
	Stack,
	Text,
	TextInput,
} from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { IconChevronDown } from "@tabler/icons-react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type ActionRequest, type Done, type QueueWords, queue, type Verb } from "../api/queue";
import { setup } from "../api/setup";
import { useMayWork } from "./may";
import { count, plural } from "./text";
import { setUndo } from "./undo";

/** What one can do with messages, in the words of the commands. */
const verbs: Record<Verb, { label: string; title: string; about: string; button: string; danger?: boolean }> = {
	flush: {
		label: t`Try now`,
		title: t`Try now`,
		about: t`Within the limits of their lanes. When they expire does not change.`,
		button: t`Try now`,
	},
	hold: {
		label: t`Hold`,
		title: t`Hold`,
		about: t`They are not tried, and do not expire while they are held.`,
		button: t`Hold`,
	},
	release: { label: t`Release`, title: t`Release`, about: t`Held messages go on immediately.`, button: t`Release` },
	reroute: {
		label: t`Send by another route …`,
		title: t`Send by another route`,
		about: t`By another route, or straight to a host.`,
		button: t`Send`,
	},
	expire: {
		label: t`Change expiry …`,
		title: t`Change when they expire`,
		about: t`Write 12h for twelve hours from now, +1d or -12h for later or earlier, schedule for what the schedule says.`,
		button: t`Change`,
	},
	"change-domain": {
		label: t`Change the domain …`,
		title: t`Fix a wrong recipient domain`,
		about: t`What stands before the @ stays; they are sent where the right domain leads.`,
		button: t`Fix`,
	},
	return: {
		label: t`Return to sender …`,
		title: t`Return to sender`,
		about: t`Each sender gets a notice with your sentence. This cannot be taken back.`,
		button: t`Return`,
		danger: true,
	},
	drop: {
		label: t`Drop …`,
		title: t`Drop`,
		about: t`Nobody is told. For a day they can be put back, under Queue, Actions.`,
		button: t`Drop`,
		danger: true,
	},
};

const order: Verb[] = ["flush", "hold", "release", "reroute", "expire", "change-domain", "return", "drop"];

/** Actions is the menu of what can be done with what the words select. */
export function Actions({ words, what }: { words: QueueWords; what: string }) {
	const [verb, setVerb] = useState<Verb | null>(null);
	const mayChange = useMayWork();
	return (
		<>
			<Menu position="bottom-end" returnFocus={false}>
				<Menu.Target>
					<Button
						size="xs"
						variant="light"
						rightSection={<IconChevronDown size={14} />}
						disabled={!mayChange}
						title={mayChange ? undefined : t`A viewer may look, not change`}
					>
						{what}
					</Button>
				</Menu.Target>
				<Menu.Dropdown>
					{order.map((v) => (
						<Menu.Item key={v} color={verbs[v].danger ? "buoy" : undefined} onClick={() => setVerb(v)}>
							{verbs[v].label}
						</Menu.Item>
					))}
				</Menu.Dropdown>
			</Menu>
			{verb && <Acting verb={verb} words={words} onClose={() => setVerb(null)} />}
		</>
	);
}

/** ActionsByKey is the same menu as a dialog, for who has the keyboard only. */
export function ActionsByKey({ words, what, onClose }: { words: QueueWords; what: string; onClose: () => void }) {
	const [verb, setVerb] = useState<Verb | null>(null);
	const mayChange = useMayWork();
	if (verb) {
		return <Acting verb={verb} words={words} onClose={onClose} />;
	}
	return (
		<Modal opened onClose={onClose} title={what} size="xs">
			<Stack gap={4}>
				{order.map((v, n) => (
					<Button
						key={v}
						variant="default"
						size="xs"
						justify="start"
						disabled={!mayChange}
						data-autofocus={n === 0 || undefined}
						onClick={() => setVerb(v)}
					>
						{verbs[v].label}
					</Button>
				))}
			</Stack>
		</Modal>
	);
}

/** Act is one action as a button. */
export function Act({ verb, words, label }: { verb: Verb; words: QueueWords; label: string }) {
	const [open, setOpen] = useState(false);
	const mayChange = useMayWork();
	return (
		<>
			<Button
				size="xs"
				variant="light"
				disabled={!mayChange}
				title={mayChange ? undefined : t`A viewer may look, not change`}
				onClick={() => setOpen(true)}
			>
				{label}
			</Button>
			{open && <Acting verb={verb} words={words} onClose={() => setOpen(false)} />}
		</>
	);
}

/** told lets a person know what came of it, with the way back. */
export function useTold() {
	const client = useQueryClient();
	return (done: Done, undo: boolean) => {
		void client.invalidateQueries();
		const takeBack = async () => {
			setUndo(undefined);
			notifications.hide(id);
			try {
				const answer = await queue.undo(done.action, () => {});
				notifications.show({ color: "kelp", message: `${answer.text}.` });
			} catch (e) {
				notifications.show({ color: "buoy", title: t`Not taken back`, message: (e as Error).message });
			}
			void client.invalidateQueries();
		};
		const id = notifications.show({
			onClose: () => setUndo(undefined),
			color: done.touched || done.text.includes("pause") ? "kelp" : "brass",
			autoClose: undo ? 60_000 : 6_000,
			message: (
				<Group gap="xs" justify="space-between">
					<Text size="sm">{done.text.charAt(0).toUpperCase() + done.text.slice(1)}.</Text>
					{undo && done.action > 0 && (
						<Button size="compact-xs" variant="default" title={t`Or press z`} onClick={() => void takeBack()}>
							<Trans>Undo</Trans>
						</Button>
					)}
				</Group>
			),
		});
		if (undo && done.action > 0) {
			setUndo(() => void takeBack());
		}
	};
}

function Acting({ verb, words, onClose }: { verb: Verb; words: QueueWords; onClose: () => void }) {
	const v = verbs[verb];
	const [fields, setFields] = useState<Partial<ActionRequest>>({});
	const [why, setWhy] = useState("");
	const [sure, setSure] = useState(false);
	const [part, setPart] = useState<{ done: number; part: number } | null>(null);
	const told = useTold();
	const request = (dry: boolean): ActionRequest => ({
		verb,
		filter: words,
		all: true,
		dry_run: dry,
		...(!dry && fields),
		why: why || undefined,
		sure: sure || undefined,
	});
	const would = useQuery({
		queryKey: ["would", verb, words],
		queryFn: () => queue.act(request(true), () => {}),
		refetchInterval: false,
	});
	const act = useMutation({
		mutationFn: () => queue.act(request(false), (p) => setPart({ done: p.done ?? 0, part: p.progress ?? 0 })),
		onSuccess: (done) => {
			told(done, verb !== "flush" && verb !== "return");
			onClose();
		},
	});
	const matched = would.data?.matched ?? 0;
	return (
		<Modal opened onClose={onClose} title={v.title} size="md">
			<form
				onSubmit={(e) => {
					e.preventDefault();
					act.mutate();
				}}
			>
				<Stack gap="sm">
					<Text size="sm" role="status">
						{would.data ? (
							<>
								<Trans>
									<b>{plural(matched, t`delivery`, t`deliveries`)}</b> match
								</Trans>
								{would.data.sending > 0 && t`; a node works on ${count(would.data.sending)} of them now`}.
							</>
						) : (
							(would.error?.message ?? t`Counting …`)
						)}{" "}
						{v.about}
					</Text>
					<VerbFields verb={verb} set={(change) => setFields({ ...fields, ...change })} />
					<TextInput
						label={t`Why`}
						description={t`Kept on record with your name`}
						value={why}
						data-autofocus={["flush", "hold", "release"].includes(verb) || undefined}
						onChange={(e) => setWhy(e.currentTarget.value)}
					/>
					{verb === "drop" && (
						<Checkbox
							checked={sure}
							onChange={(e) => setSure(e.currentTarget.checked)}
							label={t`Yes, drop ${plural(matched, t`delivery`, t`deliveries`)} and tell nobody`}
						/>
					)}
					{act.error && (
						<Alert color="buoy" title={t`Not done`} role="alert">
							{act.error.message}
						</Alert>
					)}
					{act.isPending && (
						<div>
							<Bar value={(part?.part ?? 0) * 100} animated aria-label={t`How far it is`} />
							<Text size="xs" c="dimmed">
								<Trans>
									{count(part?.done ?? 0)} of {count(matched)}
								</Trans>
							</Text>
						</div>
					)}
					<Group justify="end">
						<Button variant="default" onClick={onClose}>
							<Trans>Cancel</Trans>
						</Button>
						<Button
							type="submit"
							color={v.danger ? "buoy" : undefined}
							loading={act.isPending}
							disabled={matched === 0 || (verb === "drop" && !sure)}
						>
							{v.button}
						</Button>
					</Group>
				</Stack>
			</form>
		</Modal>
	);
}

function VerbFields({ verb, set }: { verb: Verb; set: (change: Partial<ActionRequest>) => void }) {
	switch (verb) {
		case "reroute":
			return <Reroute set={set} />;
		case "expire":
			return (
				<TextInput
					label={t`Expired`}
					data-autofocus
					placeholder={t`12h, +1d, -12h or schedule`}
					required
					onChange={(e) => set({ expire_after: e.currentTarget.value })}
				/>
			);
		case "change-domain":
			return (
				<TextInput
					label={t`The right domain`}
					data-autofocus
					placeholder={t`saltmarsh.example`}
					required
					onChange={(e) => set({ domain: e.currentTarget.value })}
				/>
			);
		case "return":
			return (
				<TextInput
					label={t`What the senders read`}
					data-autofocus
					placeholder={t`It is not delivered from here.`}
					onChange={(e) => set({ say: e.currentTarget.value || undefined })}
				/>
			);
	}
	return null;
}

function Reroute({ set }: { set: (change: Partial<ActionRequest>) => void }) {
	const [by, setBy] = useState("route");
	const routes = useQuery({ queryKey: ["setup", "routes"], queryFn: () => setup.list("routes") });
	const names = (routes.data?.items ?? [])
		.filter((r) => !["mailbox", "refuse"].includes(String(r.fields.next_hop)) && !r.fields.off)
		.map((r) => r.name);
	return (
		<Stack gap="xs">
			<Radio.Group
				value={by}
				onChange={(v) => {
					setBy(v);
					set({ route: undefined, host: undefined });
				}}
				label={t`By`}
			>
				<Group mt={4}>
					<Radio value="route" label={t`another route`} />
					<Radio value="host" label={t`a host`} />
				</Group>
			</Radio.Group>
			{by === "route" ? (
				<Select
					label={t`Route`}
					required
					data={names}
					onChange={(v) => set({ route: v ?? undefined, host: undefined })}
				/>
			) : (
				<TextInput
					label={t`Host`}
					placeholder={t`mx2.dunlin.example:2530`}
					required
					onChange={(e) => set({ host: e.currentTarget.value, route: undefined })}
				/>
			)}
			<Checkbox
				label={t`Until they are gone, not for one attempt only`}
				onChange={(e) => set({ keep: e.currentTarget.checked })}
			/>
		</Stack>
	);
}
