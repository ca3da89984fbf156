import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Group, Table, Text, Title, UnstyledButton } from "@mantine/core";
import { useState } from "react";
import type { LaneDetail } from "../api/queue";
import classes from "./attempts.module.css";
import { count } from "./text";
import { clock, moment, zoneName } from "./time";
import { exact, span } from "./when";

const hour = 3_600_000;

/** What stands on the line: a minute with attempts, or what is to come. */
type Mark = { at: number; kind: "sent" | "deferred" | "next" | "expires"; text: string };

/**
 * A lane's attempts on a line of time: what was tried in the last day, now, and what comes
 * next. Minutes in which all went well are kept for two hours only.
 */
export function Attempts({ lane }: { lane: LaneDetail }) {
	const [numbers, setNumbers] = useState(false);
	const now = Date.now();
	const marks = marksOf(lane, now);
	const from = Math.min(now - hour, ...marks.map((m) => m.at)) - 5 * 60_000;
	const to = Math.max(now + hour / 4, ...marks.map((m) => m.at)) + 5 * 60_000;
	const place = (t: number) => `${((t - from) / (to - from)) * 100}%`;
	const failed = lane.tried.reduce((n, m) => n + m.failed, 0);
	const sent = lane.tried.reduce((n, m) => n + m.finished, 0);
	return (
		<section className="surface" style={{ padding: 12 }} aria-labelledby="attempts">
			<Group justify="space-between">
				<Title order={2} size="sm" id="attempts">
					<Trans>
						Attempts{" "}
						<Text span size="xs" c="dimmed">
							<Trans>
								{count(failed)} deferred in a day ◆, {count(sent)} done in two hours ●, {zoneName(now)}
							</Trans>
						</Text>
					</Trans>
				</Title>
				<UnstyledButton fz="xs" td="underline" aria-expanded={numbers} onClick={() => setNumbers(!numbers)}>
					{numbers ? t`Hide the numbers` : t`Show the numbers`}
				</UnstyledButton>
			</Group>
			<div className={classes.line} role="img" aria-label={marks.map((m) => m.text).join("; ") || t`nothing was tried`}>
				{ticksOf(from, to).map((t) => (
					<span key={t} className={classes.tick} style={{ left: place(t) }}>
						{clock(t, false)}
					</span>
				))}
				<span className={classes.now} style={{ left: place(now) }}>
					<Trans>now</Trans>
				</span>
				{marks.map((m) => (
					<span
						key={`${m.kind} ${m.at}`}
						className={classes.mark}
						data-kind={m.kind}
						style={{ left: place(m.at) }}
						title={m.text}
					/>
				))}
			</div>
			{numbers && (
				<Table.ScrollContainer minWidth={300} mah={240}>
					<Table verticalSpacing={2} fz="xs">
						<Table.Tbody>
							{marks.map((m) => (
								<Table.Tr key={`${m.kind} ${m.at}`}>
									<Table.Td w={160}>{moment(new Date(m.at).toISOString(), false)}</Table.Td>
									<Table.Td>{m.text}</Table.Td>
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				</Table.ScrollContainer>
			)}
		</section>
	);
}

function marksOf(lane: LaneDetail, now: number): Mark[] {
	const marks: Mark[] = [];
	for (const m of lane.tried) {
		const at = Date.parse(m.at);
		if (m.failed > 0) {
			marks.push({ at, kind: "deferred", text: t`${clock(m.at, false)}: ${count(m.failed)} deferred` });
		}
		if (m.finished > 0) {
			marks.push({ at, kind: "sent", text: t`${clock(m.at, false)}: ${count(m.finished)} done` });
		}
	}
	const next = lane.state === "paused" ? lane.until : (lane.until ?? lane.next_attempt_at);
	if (next && Date.parse(next) > now) {
		marks.push({
			at: Date.parse(next),
			kind: "next",
			text: t`${lane.state === "paused" ? t`goes on` : t`next attempt`} ${exact(next)}, in ${span((Date.parse(next) - now) / 1000)}`,
		});
	}
	// The end is shown when it is near enough to be on the line.
	if (lane.expires_at && Date.parse(lane.expires_at) > now && Date.parse(lane.expires_at) < now + 12 * hour) {
		marks.push({
			at: Date.parse(lane.expires_at),
			kind: "expires",
			text: t`the oldest expires ${exact(lane.expires_at)}`,
		});
	}
	return marks;
}

/** Whole hours on the line, at most twelve of them. */
function ticksOf(from: number, to: number): number[] {
	const step = [hour / 4, hour / 2, hour, 2 * hour, 3 * hour, 6 * hour].find((s) => (to - from) / s <= 12) ?? 12 * hour;
	const out = [];
	for (let t = Math.ceil(from / step) * step; t < to; t += step) {
		out.push(t);
	}
	return out;
}
