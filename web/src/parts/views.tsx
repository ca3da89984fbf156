import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { ActionIcon, Button, Checkbox, Group, Popover, Stack, Text, TextInput } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { IconBookmark, IconTrash } from "@tabler/icons-react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useLocation, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { type Kept, kept } from "../api/kept";
import { useMayChange } from "./may";

type View = { path: string; search: Record<string, unknown> };

/** Views are filters and orders of a page that are kept with a name, for oneself or for all. */
export function Views() {
	const at = useLocation();
	const navigate = useNavigate();
	const client = useQueryClient();
	const may = useMayChange();
	const [opened, setOpened] = useState(false);
	const [name, setName] = useState("");
	const [shared, setShared] = useState(false);
	const all = useQuery({ queryKey: ["kept"], queryFn: kept.list, staleTime: 300_000 });
	const here = (all.data?.items ?? []).filter((k) => k.kind === "view" && (k.value as View).path === at.pathname);
	const act = useMutation({
		mutationFn: (f: () => Promise<void>) => f(),
		onSuccess: () => {
			setName("");
			void client.invalidateQueries({ queryKey: ["kept"] });
		},
		onError: (e) => notifications.show({ color: "buoy", title: t`Not kept`, message: e.message }),
	});
	const go = (k: Kept) => {
		setOpened(false);
		void navigate({ to: at.pathname, search: (k.value as View).search } as never);
	};
	return (
		<Popover opened={opened} onChange={setOpened} position="bottom-start" shadow="md" trapFocus>
			<Popover.Target>
				<Button
					size="xs"
					variant="default"
					leftSection={<IconBookmark size={14} />}
					onClick={() => setOpened(!opened)}
					aria-expanded={opened}
				>
					<Trans>Views</Trans>
					{here.length > 0 && ` (${here.length})`}
				</Button>
			</Popover.Target>
			<Popover.Dropdown>
				<Stack gap={6} w={260}>
					{here.length === 0 && (
						<Text size="xs" c="dimmed">
							<Trans>None is kept for this page. Set filters and an order, and keep them with a name.</Trans>
						</Text>
					)}
					{here.map((k) => (
						<Group key={`${k.shared} ${k.name}`} gap={4} wrap="nowrap" justify="space-between">
							<Button size="compact-sm" variant="subtle" justify="start" onClick={() => go(k)}>
								{k.name}
								{k.shared && t` (for all)`}
							</Button>
							{(!k.shared || may) && (
								<ActionIcon
									size="sm"
									variant="subtle"
									color="buoy"
									aria-label={t`Remove the view ${k.name}`}
									onClick={() => act.mutate(() => kept.drop("view", k.name, k.shared))}
								>
									<IconTrash size={14} />
								</ActionIcon>
							)}
						</Group>
					))}
					<form
						onSubmit={(e) => {
							e.preventDefault();
							act.mutate(() => kept.keep("view", name.trim(), { path: at.pathname, search: at.search }, shared));
						}}
					>
						<Stack gap={6}>
							<TextInput
								size="xs"
								label={t`Keep this view as`}
								placeholder={t`what greywacke defers`}
								maxLength={100}
								value={name}
								onChange={(e) => setName(e.currentTarget.value)}
							/>
							{may && (
								<Checkbox
									size="xs"
									label={t`for all, not for me only`}
									checked={shared}
									onChange={(e) => setShared(e.currentTarget.checked)}
								/>
							)}
							<Button size="xs" type="submit" disabled={!name.trim()} loading={act.isPending}>
								<Trans>Keep it</Trans>
							</Button>
						</Stack>
					</form>
				</Stack>
			</Popover.Dropdown>
		</Popover>
	);
}
