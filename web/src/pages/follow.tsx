import "@mantine/core/styles/Chip.layer.css";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Chip, Group, Text, TextInput } from "@mantine/core";
import { IconPlayerPause, IconPlayerPlay } from "@tabler/icons-react";
import { useEffect, useRef, useState } from "react";
import { hear, useLive } from "../api/live";
import type { Happening } from "../api/stream";
import { State } from "../parts/state";
import { Nothing } from "../parts/states";
import { shown, soft } from "../parts/text";
import { fine } from "../parts/time";
import { To } from "../parts/to";
import classes from "./follow.module.css";

type Shown = Happening & { n: number };

const kinds = ["received", "delivered", "deferred", "bounced", "expired", "rejected", "lane"];

/** How many events the page keeps; older ones are in the search. */
const kept = 500;

/** What happens, as it happens, on any node. */
export function FollowView() {
	const [events, setEvents] = useState<Shown[]>([]);
	const [paused, setPaused] = useState(false);
	const [behind, setBehind] = useState(0);
	const [lost, setLost] = useState(0);
	const [chosen, setChosen] = useState<string[]>(kinds);
	const [text, setText] = useState("");
	const state = useLive();
	const stopped = useRef(false);
	stopped.current = paused;
	useEffect(() => {
		let number = 0;
		let waiting: Shown[] = [];
		const leave = hear((events) => {
			for (const e of events) {
				if (e.kind === "lost") {
					setLost((n) => n + (Number.parseInt(e.text, 10) || 1));
				} else if (kinds.includes(e.kind)) {
					waiting.push({ ...e, n: number++ });
				}
			}
		});
		// What comes is shown four times a second: a thousand events are one change
		// of the page.
		const show = window.setInterval(() => {
			if (waiting.length === 0) {
				return;
			}
			if (stopped.current) {
				setBehind(waiting.length);
				if (waiting.length > 5000) {
					setLost((n) => n + waiting.length - 5000);
					waiting = waiting.slice(-5000);
				}
				return;
			}
			const fresh = waiting.reverse();
			waiting = [];
			setBehind(0);
			setEvents((old) => [...fresh, ...old].slice(0, kept));
		}, 250);
		return () => {
			leave();
			window.clearInterval(show);
		};
	}, []);
	const needle = text.toLowerCase();
	const shownEvents = events.filter(
		(e) =>
			chosen.includes(e.kind) &&
			[e.message_id, e.sender, e.recipient, e.client, e.lane, e.text].join("\n").toLowerCase().includes(needle),
	);
	return (
		<>
			<Group gap="sm">
				<Button
					size="xs"
					variant={paused ? "filled" : "default"}
					leftSection={paused ? <IconPlayerPlay size={14} /> : <IconPlayerPause size={14} />}
					onClick={() => setPaused(!paused)}
				>
					{paused ? t`Go on (${behind} wait)` : t`Pause`}
				</Button>
				<TextInput
					size="xs"
					w={230}
					aria-label={t`Only with`}
					placeholder={t`Only with: an address, client, lane …`}
					value={text}
					onChange={(e) => setText(e.currentTarget.value)}
				/>
				<Chip.Group multiple value={chosen} onChange={setChosen}>
					<Group gap={4}>
						{kinds.map((k) => (
							<Chip key={k} value={k} size="xs">
								{k}
							</Chip>
						))}
					</Group>
				</Chip.Group>
				<Text size="xs" c="dimmed">
					{state === "live" ? t`Events come in as they happen.` : t`The stream is broken; it comes back by itself.`}
					{lost > 0 && t` ${lost} events were missed: this page was too slow. They are on record; search for them.`}
				</Text>
			</Group>
			<section className={`surface ${classes.list}`} aria-label={t`Events, newest first`} aria-live="off">
				{shownEvents.length === 0 ? (
					<Nothing title={t`Nothing has happened yet`}>
						<Trans>What happens on any node from now on is shown here, newest first.</Trans>
					</Nothing>
				) : (
					<ol>
						{shownEvents.map((e) => (
							<li key={e.n}>
								<span className={classes.at}>{fine(e.at)}</span>
								<State state={e.kind} />
								<Subject event={e} />
								<span className={classes.text}>{e.text}</span>
							</li>
						))}
					</ol>
				)}
			</section>
		</>
	);
}

function Subject({ event: e }: { event: Happening }) {
	const who = e.sender !== undefined || e.recipient ? `${shown(e.sender ?? "")} → ${e.recipient ?? ""}` : "";
	const label = who ? soft(who) : e.lane || e.client || "";
	if (e.detail?.refusal) {
		return (
			<To to="/refusals/$id" params={{ id: e.detail.refusal }} className="mono" inherit>
				{label || e.client}
			</To>
		);
	}
	if (e.message_id && e.message_id !== "0000000000000") {
		return (
			<To to="/messages/$id" params={{ id: e.message_id }} className="mono" inherit>
				{label || e.message_id}
			</To>
		);
	}
	return <span className="mono">{label}</span>;
}
