import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Drawer, Group, Stack, Text } from "@mantine/core";
import { useDebouncedCallback } from "@mantine/hooks";
import { notifications } from "@mantine/notifications";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { Refused } from "../api/ask";
import type { Field, Fields } from "../api/setup";
import { useAsk } from "./ask";
import { Clashes } from "./clashes";
import { FieldsForm } from "./fields";
import { Guard } from "./guard";
import { useMayChange } from "./may";
import { type Clash, differing, merge, put } from "./merge";

/** One thing as it was seen: its fields, and the mark that changes with them. */
export type Seen = { fields: Fields; mark: string };

type EditorProps = {
	title: string;
	fields: Field[];
	seen: Seen;
	/** now reads it as it is, when somebody else has changed it. */
	now?: () => Promise<Seen | undefined>;
	first?: string[];
	/** Says what saving does: in the draft, or immediately. */
	note: string;
	opened: boolean;
	onClose: () => void;
	/** check asks the service without changing anything; save does it. */
	check: (values: Fields, mark: string) => Promise<unknown>;
	save: (values: Fields, mark: string, seen: Fields) => Promise<unknown>;
	/** remove takes it out; removal says beforehand what that does. */
	remove?: (mark: string) => Promise<unknown>;
	removal?: () => Promise<ReactNode>;
	children?: ReactNode;
};

type Conflict = { clashes: Clash[]; others: string[]; mine: string[] };

/**
 * Editor is the form of one thing beside the list it stands in. While one types, the
 * service itself checks it, by the same rules as when it is saved. Its values and its
 * mark are those of the moment it was opened: what somebody else changes meanwhile is
 * never written over, but shown, to choose from.
 */
export function Editor(props: EditorProps) {
	const { title, fields, opened, onClose, check, save, remove } = props;
	const [base, setBase] = useState<Seen>(props.seen);
	const [values, setValues] = useState<Fields>(props.seen.fields);
	const [conflict, setConflict] = useState<Conflict | null>(null);
	const [faults, setFaults] = useState<Record<string, string>>({});
	const [rest, setRest] = useState<string[]>([]);
	const [touched, setTouched] = useState(false);
	const dirty = useRef(false);
	dirty.current = opened && touched;
	const [asking, ask] = useAsk();
	const client = useQueryClient();
	const may = useMayChange();
	// biome-ignore lint/correctness/useExhaustiveDependencies: a form begins when it is opened, not when the list is read again
	useEffect(() => {
		setBase(props.seen);
		setValues(props.seen.fields);
		setConflict(null);
		setFaults({});
		setRest([]);
		setTouched(false);
	}, [opened, title]);
	const tell = (e: unknown) => {
		if (e instanceof Refused && (e.status === 422 || Object.keys(e.fields).length > 0)) {
			setFaults(e.fields);
			const known = fields.map((f) => f.name);
			const elsewhere = Object.entries(e.fields)
				.filter(([k]) => !known.some((n) => k === n || k.startsWith(`${n}.`) || k.startsWith(`${n}[`)))
				.map(([k, v]) => `${k}: ${v}`);
			setRest([...elsewhere, ...e.rest]);
			return true;
		}
		return false;
	};
	/** Somebody changed it: what both of us did is brought together. */
	const meet = async () => {
		const theirs = await props.now?.();
		if (!theirs) {
			return false;
		}
		const { merged, clashes } = merge(base.fields, values, theirs.fields);
		setConflict({
			clashes,
			others: differing(base.fields, theirs.fields).filter((f) => !clashes.some((c) => c.field === f)),
			mine: [],
		});
		setBase(theirs);
		setValues(merged);
		return true;
	};
	const checkSoon = useDebouncedCallback((v: Fields) => {
		check(v, base.mark)
			.then(() => {
				setFaults({});
				setRest([]);
			})
			.catch(tell);
	}, 400);
	const close = () => {
		dirty.current = false;
		setTouched(false);
		onClose();
	};
	const leave = () => {
		if (!dirty.current) {
			onClose();
			return;
		}
		ask({
			title: t`Leave without saving?`,
			text: t`What you changed in this form is not saved yet.`,
			yes: t`Leave it`,
			no: t`Go on with it`,
			act: close,
		});
	};
	const act = useMutation({
		mutationFn: (f: () => Promise<unknown>) => f(),
		onSuccess: () => {
			void client.invalidateQueries();
			close();
		},
		onError: async (e) => {
			if (e instanceof Refused && e.status === 409 && (await meet())) {
				return;
			}
			if (!tell(e)) {
				notifications.show({ color: "buoy", title: t`Not saved`, message: e.message, autoClose: 15_000 });
			}
		},
	});
	const choose = (field: string, isMine: boolean) => {
		const clash = conflict?.clashes.find((c) => c.field === field);
		if (!conflict || !clash) {
			return;
		}
		const next = { ...values };
		put(next, field, isMine ? clash.mine : clash.theirs);
		setValues(next);
		setConflict({
			...conflict,
			mine: isMine ? [...conflict.mine, field] : conflict.mine.filter((f) => f !== field),
		});
	};
	const askRemoval = async () => {
		const text = await props.removal?.().catch((e: Error) => e.message);
		ask({
			title: t`Remove ${title}?`,
			text: text ?? t`It is taken out.`,
			yes: t`Remove it`,
			act: () => remove && act.mutate(() => remove(base.mark)),
		});
	};
	return (
		<>
			<Guard dirty={() => dirty.current} />
			{asking}
			<Drawer
				opened={opened}
				onClose={leave}
				position="right"
				size="lg"
				title={<Text fw={650}>{title}</Text>}
				closeButtonProps={{ "aria-label": t`Close` }}
			>
				<form
					onSubmit={(e) => {
						e.preventDefault();
						act.mutate(() => save(values, base.mark, base.fields));
					}}
				>
					<Stack gap="sm">
						{props.children}
						{conflict && (
							<Clashes clashes={conflict.clashes} others={conflict.others} mine={conflict.mine} choose={choose} />
						)}
						<fieldset disabled={!may} style={{ border: 0, padding: 0, margin: 0 }}>
							<FieldsForm
								fields={fields}
								values={values}
								faults={faults}
								first={props.first}
								onChange={(v) => {
									setValues(v);
									setTouched(true);
									if (may) {
										checkSoon(v);
									}
								}}
							/>
						</fieldset>
						{rest.length > 0 && (
							<Alert color="buoy" title={t`This does not fit with the rest`}>
								{rest.map((r) => (
									<Text key={r} size="sm">
										{r}
									</Text>
								))}
							</Alert>
						)}
						<Text size="xs" c="dimmed">
							{may ? props.note : t`A viewer may look, not change.`}
						</Text>
						<Group justify="space-between">
							<Button type="submit" size="sm" loading={act.isPending} disabled={!may || !touched}>
								<Trans>Save</Trans>
							</Button>
							{remove && (
								<Button variant="subtle" color="buoy" size="sm" disabled={!may} onClick={() => void askRemoval()}>
									<Trans>Remove</Trans>
								</Button>
							)}
						</Group>
					</Stack>
				</form>
			</Drawer>
		</>
	);
}
