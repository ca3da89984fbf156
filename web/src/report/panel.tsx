import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { ActionIcon, Group, Menu, Table, Text, Title } from "@mantine/core";
import { IconDots } from "@tabler/icons-react";
import { type ReactNode, useRef, useState } from "react";
import { download, toCSV } from "../parts/table-file";
import classes from "./report.module.css";

/** A table under a drawing: its columns, and its rows as they are written to a file. */
export type Numbers = { heads: string[]; rows: (string | number)[][] };

type PanelProps = {
	/** What it is called in files. */
	name: string;
	title: string;
	note?: string;
	/** The same in figures; without it there is no drawing to take along. */
	numbers?: Numbers;
	/** The table to show in place of the plain one. */
	table?: ReactNode;
	/** What the colours and dashes are, for who has only the file. */
	legend?: string;
	right?: ReactNode;
	children: ReactNode;
};

/** Panel holds one part of a report: its drawing, the same as a table, and ways to take it along. */
export function Panel({ name, title, note, numbers, table, legend, right, children }: PanelProps) {
	const box = useRef<HTMLElement>(null);
	const [shown, setShown] = useState(false);
	const caption = { title, lines: [note, legend].filter((l): l is string => Boolean(l)) };
	const picture = async (as: "svg" | "png") => {
		const { savePNG, saveSVG } = await import("./picture");
		if (box.current) {
			await (as === "svg" ? saveSVG : savePNG)(box.current, caption, name);
		}
	};
	const print = () => {
		box.current?.setAttribute("data-printed", "");
		document.body.setAttribute("data-print", "part");
		window.print();
		document.body.removeAttribute("data-print");
		box.current?.removeAttribute("data-printed");
	};
	return (
		<section ref={box} className={`surface ${classes.panel}`} aria-label={title}>
			<Group p="sm" pb={4} gap="xs" justify="space-between">
				<Title order={2} size="h5">
					{title}{" "}
					{note && (
						<Text span size="xs" c="dimmed">
							{note}
						</Text>
					)}
				</Title>
				<Group gap="xs" className={classes.controls}>
					{right}
					{numbers && (
						<Menu position="bottom-end" withinPortal>
							<Menu.Target>
								<ActionIcon variant="subtle" color="gray" aria-label={t`Take along: ${title}`}>
									<IconDots size={16} />
								</ActionIcon>
							</Menu.Target>
							<Menu.Dropdown>
								<Menu.Item onClick={() => setShown(!shown)}>
									{shown ? t`Hide the numbers` : t`Show the numbers`}
								</Menu.Item>
								<Menu.Item onClick={() => download(`${name}.csv`, toCSV(asRecords(numbers)))}>
									<Trans>Save as CSV</Trans>
								</Menu.Item>
								<Menu.Item onClick={() => void picture("png")}>
									<Trans>Save as PNG</Trans>
								</Menu.Item>
								<Menu.Item onClick={() => void picture("svg")}>
									<Trans>Save as SVG</Trans>
								</Menu.Item>
								<Menu.Item onClick={print}>
									<Trans>Print this part</Trans>
								</Menu.Item>
							</Menu.Dropdown>
						</Menu>
					)}
				</Group>
			</Group>
			{children}
			{numbers && shown && (table ?? <NumbersTable numbers={numbers} />)}
		</section>
	);
}

function asRecords({ heads, rows }: Numbers): Record<string, unknown>[] {
	return rows.map((r) => Object.fromEntries(heads.map((h, i) => [h, r[i]])));
}

function NumbersTable({ numbers: { heads, rows } }: { numbers: Numbers }) {
	return (
		<Table.ScrollContainer minWidth={300} mah={320}>
			<Table verticalSpacing={2} horizontalSpacing="sm" fz="xs" stickyHeader>
				<Table.Thead>
					<Table.Tr>
						{heads.map((h, i) => (
							<Table.Th key={h} ta={i > 0 ? "right" : undefined}>
								{h}
							</Table.Th>
						))}
					</Table.Tr>
				</Table.Thead>
				<Table.Tbody>
					{rows.map((r) => (
						<Table.Tr key={r[0]}>
							{r.map((v, i) => (
								<Table.Td key={heads[i]} ta={i > 0 ? "right" : undefined}>
									{v}
								</Table.Td>
							))}
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
		</Table.ScrollContainer>
	);
}
