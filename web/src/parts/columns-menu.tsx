import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { ActionIcon, Button, Checkbox, Group, Popover, Stack, Text, UnstyledButton } from "@mantine/core";
import { IconArrowDown, IconArrowUp, IconMinus, IconPlus } from "@tabler/icons-react";
import { useChoices } from "../api/choices";
import { choose } from "../api/kept";
import type { Column, Layout } from "./columns";

type MenuProps = {
	columns: Column<unknown>[];
	layout: Layout;
	changed: boolean;
	set: (layout: Layout | null) => Promise<void>;
};

/** Which columns a list has, in which order and how wide; kept for the person. */
export function ColumnsMenu({ columns, layout, changed, set }: MenuProps) {
	const { dense } = useChoices();
	const rest = columns.filter((c) => !layout.some((l) => l.key === c.key));
	const swap = (i: number, j: number) => {
		const next = layout.slice();
		const [a, b] = [next[i], next[j]];
		if (a && b) {
			next[i] = b;
			next[j] = a;
			void set(next);
		}
	};
	const widen = (key: string, by: number) => {
		const now = layout.find((l) => l.key === key)?.width ?? columns.find((c) => c.key === key)?.width ?? 100;
		void set(layout.map((l) => (l.key === key ? { ...l, width: Math.max(40, now + by) } : l)));
	};
	return (
		<Popover position="top-end" withArrow trapFocus shadow="md">
			<Popover.Target>
				<UnstyledButton fz="xs" td="underline">
					<Trans>Columns</Trans>
				</UnstyledButton>
			</Popover.Target>
			<Popover.Dropdown mah={420} style={{ overflow: "auto" }}>
				<Stack gap={4}>
					<Text size="xs" c="dimmed">
						<Trans>Yours only; the service keeps them.</Trans>
					</Text>
					{layout.map((l, i) => {
						const title = columns.find((c) => c.key === l.key)?.title || l.key;
						return (
							<Group key={l.key} gap={4} wrap="nowrap" justify="space-between">
								<Checkbox
									size="xs"
									label={title}
									checked
									disabled={layout.length === 1}
									onChange={() => void set(layout.filter((x) => x.key !== l.key))}
								/>
								<Group gap={2} wrap="nowrap">
									<Step label={t`${title} earlier`} onClick={() => swap(i, i - 1)} disabled={i === 0}>
										<IconArrowUp size={13} />
									</Step>
									<Step label={t`${title} later`} onClick={() => swap(i, i + 1)} disabled={i === layout.length - 1}>
										<IconArrowDown size={13} />
									</Step>
									<Step label={t`${title} narrower`} onClick={() => widen(l.key, -30)}>
										<IconMinus size={13} />
									</Step>
									<Step label={t`${title} wider`} onClick={() => widen(l.key, 30)}>
										<IconPlus size={13} />
									</Step>
								</Group>
							</Group>
						);
					})}
					{rest.map((c) => (
						<Checkbox
							key={c.key}
							size="xs"
							label={c.title || c.key}
							checked={false}
							onChange={() => void set([...layout, { key: c.key }])}
						/>
					))}
					<Checkbox
						size="xs"
						mt={4}
						label={t`Low rows, in all lists`}
						checked={dense}
						onChange={(e) => choose({ dense: e.currentTarget.checked })}
					/>
					{changed && (
						<Button size="compact-xs" variant="default" onClick={() => void set(null)}>
							<Trans>As they were</Trans>
						</Button>
					)}
				</Stack>
			</Popover.Dropdown>
		</Popover>
	);
}

function Step(p: { label: string; onClick: () => void; disabled?: boolean; children: React.ReactNode }) {
	return (
		<ActionIcon size="xs" variant="subtle" aria-label={p.label} disabled={p.disabled} onClick={p.onClick}>
			{p.children}
		</ActionIcon>
	);
}
