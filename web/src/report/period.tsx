import { i18n } from "@lingui/core";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import "@mantine/dates/styles.layer.css";
import { Button, Group, Popover, SegmentedControl, Stack, Text, TextInput } from "@mantine/core";
import { DatePicker } from "@mantine/dates";
import { IconCalendar } from "@tabler/icons-react";
import { useState } from "react";
import { day, moment, momentAt, zoneName } from "../parts/time";

const hour = 3_600_000;
const date = 86_400_000;
const ceilHour = (t: number) => Math.ceil(t / hour) * hour;

/** midnight is that of so many days from today, in the zone in which times are shown. */
function midnight(days: number): number {
	return midnightOf(day(noonOf(day(Date.now())) + days * date));
}

const noonOf = (d: string) => momentAt(`${d}T12:00`)?.getTime() ?? Date.now();
const midnightOf = (d: string) => momentAt(`${d}T00:00`)?.getTime() ?? Date.now();

/** The first day of the month that is so many months from this one. */
function month(months: number): number {
	const [y = 0, m = 0] = day(Date.now()).split("-").map(Number);
	return midnightOf(new Date(Date.UTC(y, m - 1 + months, 1)).toISOString().slice(0, 10));
}

/** Periods that can be chosen directly. */
export const periods: { label: string; of: () => [number, number] }[] = [
	{ label: t`24 hours`, of: () => [ceilHour(Date.now()) - 24 * hour, ceilHour(Date.now())] },
	{ label: t`Yesterday`, of: () => [midnight(-1), midnight(0)] },
	{ label: t`7 days`, of: () => [midnight(-6), ceilHour(Date.now())] },
	{ label: t`30 days`, of: () => [midnight(-29), ceilHour(Date.now())] },
	{ label: t`90 days`, of: () => [midnight(-89), ceilHour(Date.now())] },
];

/** More of them, in the calendar. */
const more: { label: string; of: () => [number, number] }[] = [
	{ label: t`Today`, of: () => [midnight(0), ceilHour(Date.now())] },
	{ label: t`14 days`, of: () => [midnight(-13), ceilHour(Date.now())] },
	{ label: t`This month`, of: () => [month(0), ceilHour(Date.now())] },
	{ label: t`Last month`, of: () => [month(-1), month(0)] },
	{ label: t`Last 12 months`, of: () => [month(-12), ceilHour(Date.now())] },
];

const iso = (t: number) => new Date(t).toISOString();

type PeriodProps = { since: string; until: string; onPeriod: (since: string, until: string) => void };

/** Period chooses of which time a report is: by a word, by days in a calendar, or to the hour. */
export function Period({ since, until, onPeriod }: PeriodProps) {
	const [opened, setOpened] = useState(false);
	const [days, setDays] = useState<[string | null, string | null]>([null, null]);
	const take = (from: number, to: number) => {
		onPeriod(iso(from), iso(to));
		setOpened(false);
	};
	const shown = (t: string) => moment(t, false).replace(" 00:00", "");
	// The end of a period of whole days is the midnight after it; people name its last day.
	const last = moment(until, false).endsWith(" 00:00") ? day(Date.parse(until) - hour) : shown(until);
	return (
		<>
			<SegmentedControl
				size="xs"
				aria-label={t`Period`}
				data={periods.map((p) => p.label)}
				value={
					periods.find((p) => {
						const [a, b] = p.of();
						return iso(a) === since && iso(b) === until;
					})?.label ?? ""
				}
				onChange={(v) => {
					const p = periods.find((x) => x.label === v);
					if (p) {
						take(...p.of());
					}
				}}
			/>
			<Popover
				opened={opened}
				onChange={setOpened}
				onOpen={() => setDays([day(since), day(Date.parse(until) - 1)])}
				position="bottom-start"
				trapFocus
			>
				<Popover.Target>
					<Button
						size="xs"
						variant="default"
						leftSection={<IconCalendar size={14} />}
						onClick={() => setOpened(!opened)}
						title={t`Another period`}
					>
						{shown(since)} – {last}
					</Button>
				</Popover.Target>
				<Popover.Dropdown>
					<Group align="start" wrap="nowrap" gap="sm">
						<Stack gap={4}>
							{more.map((p) => (
								<Button key={p.label} size="compact-xs" variant="subtle" onClick={() => take(...p.of())}>
									{p.label}
								</Button>
							))}
						</Stack>
						<Stack gap="xs">
							<DatePicker
								type="range"
								allowSingleDateInRange
								weekendDays={[]}
								monthLabelFormat={(d) => named(d, { month: "long", year: "numeric" })}
								yearLabelFormat={(d) => named(d, { year: "numeric" })}
								monthsListFormat={(d) => named(d, { month: "short" })}
								weekdayFormat={(d) => named(d, { weekday: "short" }).slice(0, 2)}
								defaultDate={day(since)}
								maxDate={day(Date.now())}
								value={days}
								onChange={([a, b]) => {
									setDays([a, b]);
									if (a && b) {
										take(midnightOf(a), Math.min(midnightOf(day(noonOf(b) + date)), ceilHour(Date.now())));
									}
								}}
							/>
							<Group gap={4} wrap="nowrap">
								<TimeInput label={t`From`} value={since} onChange={(v) => onPeriod(v, until)} />
								<TimeInput label={t`Until`} value={until} onChange={(v) => onPeriod(since, v)} />
							</Group>
							<Text size="xs" c="dimmed">
								<Trans>Times are of {zoneName(since)}.</Trans>
							</Text>
						</Stack>
					</Group>
				</Popover.Dropdown>
			</Popover>
		</>
	);
}

/** A date's name in the language of the console. */
const named = (d: string, as: Intl.DateTimeFormatOptions) =>
	new Intl.DateTimeFormat(i18n.locale, { ...as, timeZone: "UTC" }).format(new Date(`${d.slice(0, 10)}T12:00:00Z`));

/** A time to the minute, taken when it is whole. */
function TimeInput({ label, value, onChange }: { label: string; value: string; onChange: (v: string) => void }) {
	const [text, setText] = useState<string>();
	const wrong = text !== undefined && !momentAt(text);
	return (
		<TextInput
			size="xs"
			w={150}
			label={label}
			value={text ?? moment(value, false)}
			error={wrong && t`write 2026-11-23 10:00`}
			onChange={(e) => {
				setText(e.currentTarget.value);
				const t = momentAt(e.currentTarget.value);
				if (t) {
					onChange(t.toISOString());
				}
			}}
			onBlur={() => setText(undefined)}
		/>
	);
}
