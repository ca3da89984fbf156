import { Alert, Button, Drawer, Group, Stack, Text } from "@mantine/core";
import { useDebouncedCallback } from "@mantine/hooks";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { gull } from "../api/client";
import { type Field, type Fields, Refused } from "../api/setup";
import { FieldsForm } from "./fields";

/** useMayChange reports whether who is signed in may change things. */
export function useMayChange(): boolean {
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	return me.data?.role === "administrator";
}

type EditorProps = {
	title: string;
	fields: Field[];
	initial: Fields;
	first?: string[];
	/** Says what saving does: in the draft, or immediately. */
	note: string;
	opened: boolean;
	onClose: () => void;
	/** check asks the service without changing anything; save does it. */
	check: (values: Fields) => Promise<unknown>;
	save: (values: Fields) => Promise<unknown>;
	remove?: () => Promise<unknown>;
	children?: ReactNode;
};

/**
 * Editor is the form of one thing beside the list it stands in. While one types,
 * the service itself checks it, by the same rules as when it is saved.
 */
export function Editor({
	title,
	fields,
	initial,
	first,
	note,
	opened,
	onClose,
	check,
	save,
	remove,
	children,
}: EditorProps) {
	const [values, setValues] = useState<Fields>(initial);
	const [faults, setFaults] = useState<Record<string, string>>({});
	const [rest, setRest] = useState<string[]>([]);
	const [touched, setTouched] = useState(false);
	const client = useQueryClient();
	const may = useMayChange();
	// biome-ignore lint/correctness/useExhaustiveDependencies: a new form begins when it is opened, not when the list is read again
	useEffect(() => {
		setValues(initial);
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
	const checkSoon = useDebouncedCallback((v: Fields) => {
		check(v)
			.then(() => {
				setFaults({});
				setRest([]);
			})
			.catch(tell);
	}, 400);
	const act = useMutation({
		mutationFn: (f: () => Promise<unknown>) => f(),
		onSuccess: () => {
			void client.invalidateQueries();
			onClose();
		},
		onError: (e) => {
			if (!tell(e)) {
				notifications.show({ color: "buoy", title: "Not saved", message: e.message, autoClose: 15_000 });
			}
		},
	});
	return (
		<Drawer
			opened={opened}
			onClose={onClose}
			position="right"
			size="lg"
			title={<Text fw={650}>{title}</Text>}
			closeButtonProps={{ "aria-label": "Close" }}
		>
			<form
				onSubmit={(e) => {
					e.preventDefault();
					act.mutate(() => save(values));
				}}
			>
				<Stack gap="sm">
					{children}
					<fieldset disabled={!may} style={{ border: 0, padding: 0, margin: 0 }}>
						<FieldsForm
							fields={fields}
							values={values}
							faults={faults}
							first={first}
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
						<Alert color="buoy" title="This does not fit with the rest">
							{rest.map((r) => (
								<Text key={r} size="sm">
									{r}
								</Text>
							))}
						</Alert>
					)}
					<Text size="xs" c="dimmed">
						{may ? note : "A viewer may look, not change."}
					</Text>
					<Group justify="space-between">
						<Button type="submit" size="sm" loading={act.isPending} disabled={!may || !touched}>
							Save
						</Button>
						{remove && (
							<Button variant="subtle" color="buoy" size="sm" disabled={!may} onClick={() => act.mutate(remove)}>
								Remove
							</Button>
						)}
					</Group>
				</Stack>
			</form>
		</Drawer>
	);
}
