import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { ActionIcon, Button, CopyButton, Group, SegmentedControl, Stack, Text, Tooltip } from "@mantine/core";
import { IconCheck, IconCopy } from "@tabler/icons-react";
import { useState } from "react";
import type { DNSRecord } from "../api/sound";
import classes from "./sound.module.css";

const shapes: Record<string, string> = { pass: "●", warning: "◆", fail: "▲", skipped: "○", "not checked": "○" };

/** Result has a shape of its own, so that colour is never alone. */
export function Result({ of, children }: { of: string; children?: string }) {
	return (
		<span className={classes.result} data-result={of}>
			<span aria-hidden="true">{shapes[of] ?? "○"}</span> {children ?? of}
		</span>
	);
}

function Copied({ label, value }: { label: string; value: string }) {
	return (
		<Group gap={6} wrap="nowrap" align="start">
			<Text size="xs" c="dimmed" w={44} pt={6}>
				{label}
			</Text>
			<pre className={`mono ${classes.value}`}>{value}</pre>
			<CopyButton value={value}>
				{({ copied, copy }) => (
					<Tooltip label={copied ? t`Copied` : t`Copy the ${label}`}>
						<ActionIcon variant="subtle" aria-label={t`Copy the ${label}`} onClick={copy} mt={2}>
							{copied ? <IconCheck size={15} /> : <IconCopy size={15} />}
						</ActionIcon>
					</Tooltip>
				)}
			</CopyButton>
		</Group>
	);
}

type Form = "form" | "zone" | "pieces";

/** A record to publish, in the form in which somebody pastes it. */
export function RecordView({ record: r }: { record: DNSRecord }) {
	const [form, setForm] = useState<Form>("form");
	return (
		<Stack gap={4}>
			<SegmentedControl
				size="xs"
				w="fit-content"
				aria-label={t`In which form`}
				value={form}
				onChange={(v) => setForm(v as Form)}
				data={[
					{ value: "form", label: t`DNS editor` },
					{ value: "zone", label: t`Zone file` },
					{ value: "pieces", label: t`Whole names` },
				]}
			/>
			{form === "zone" && <Copied label={t`line`} value={r.zone_line} />}
			{form === "form" && (
				<>
					<Copied label={t`host`} value={r.form.host} />
					<Copied label={t`type`} value={r.form.type} />
					<Copied label={t`value`} value={r.form.value} />
				</>
			)}
			{form === "pieces" && (
				<>
					<Copied label={t`name`} value={r.name} />
					<Copied label={t`type`} value={r.type} />
					<Copied label={t`value`} value={r.value} />
				</>
			)}
		</Stack>
	);
}

/** A record behind a button: most people look first at what is wrong. */
export function FoldedRecord({ record }: { record: DNSRecord }) {
	const [open, setOpen] = useState(false);
	return open ? (
		<RecordView record={record} />
	) : (
		<Button size="compact-xs" variant="default" w="fit-content" onClick={() => setOpen(true)}>
			<Trans>
				Show {record.form.host} {record.type}
			</Trans>
		</Button>
	);
}
