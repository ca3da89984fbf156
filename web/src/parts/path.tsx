import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Text } from "@mantine/core";
import type { ReactNode } from "react";
import type { Delivery, GullEvent, Message } from "../api/client";
import classes from "./path.module.css";
import { words } from "./reply";
import { State } from "./state";
import { shown, soft } from "./text";
import { To } from "./to";
import { short, When } from "./when";

/**
 * MessagePath draws a message's path as one picture, from the client that handed it in to
 * each recipient's end: one line a recipient, read from left to right.
 */
export function MessagePath({ message, events }: { message: Message; events: GullEvent[] }) {
	return (
		<section className={`surface ${classes.path}`} aria-label={t`The message's path`}>
			<Origin message={message} />
			<ol className={classes.legs}>
				{message.deliveries.map((d) => (
					<li className={classes.leg} key={d.id} data-state={d.state}>
						<Stop kind="recipient" title={soft(d.original_recipient)} note={t`let in by rule ${d.rule}`} />
						{(d.via ?? []).slice(1).map((v) => (
							<Stop kind="alias" title={soft(v)} note={t`alias`} key={v} />
						))}
						{d.recipient !== d.original_recipient && (
							<Stop kind="alias" title={soft(d.recipient)} note={t`alias leads here`} />
						)}
						<Stop
							kind="route"
							title={t`route ${d.route}`}
							note={d.route_why}
							after={took(events, d.id, "routed", tried)}
						/>
						<Stop
							kind="lane"
							title={
								<To to="/queue/$lane" params={{ lane: d.lane }} inherit>
									{soft(d.next_hop)}
								</To>
							}
							note={attempts(d)}
							after={took(events, d.id, tried, ended)}
						/>
						<End delivery={d} took={final.has(d.state) ? between(message.received_at, d.finished_at) : ""} />
					</li>
				))}
			</ol>
		</section>
	);
}

function Origin({ message: m }: { message: Message }) {
	if (m.notice_of) {
		return <Stop kind="origin" title={t`made here`} note={t`a notice of this server`} />;
	}
	return (
		<div className={classes.origin}>
			<Stop
				kind="origin"
				title={m.client_address}
				note={
					<Trans>
						{m.helo}
						<br />
						as {soft(shown(m.sender))}
					</Trans>
				}
			/>
			<Stop kind="listener" title={t`listener ${m.listener}`} note={t`${m.protocol}, revision ${m.revision}`} />
		</div>
	);
}

const ended = ["delivered", "bounced", "expired"];
const tried = ["deferred", ...ended];

/** How long it took from one step of a delivery to another, as it is told; "" if one is missing. */
function took(events: GullEvent[], id: string, from: string | string[], to: string[]): string {
	const of = (kinds: string | string[]) => events.find((e) => e.delivery_id === id && kinds.includes(e.kind))?.at;
	return between(of(from), of(to));
}

function between(a: string | null | undefined, b: string | null | undefined): string {
	if (!a || !b) {
		return "";
	}
	const ms = Date.parse(b) - Date.parse(a);
	return ms < 1000 ? t`${Math.max(0, ms)} ms` : short(ms / 1000);
}

type StopProps = { kind: string; title: ReactNode; note: ReactNode; after?: string };

function Stop({ kind, title, note, after }: StopProps) {
	return (
		<div className={classes.stop} data-kind={kind} data-after={after ? "" : undefined}>
			{after && (
				<span className={classes.after} title={t`how long it took to the next step`}>
					{after}
				</span>
			)}
			<div className={classes.title}>{title}</div>
			<Text size="xs" c="dimmed" className={classes.note}>
				{note}
			</Text>
		</div>
	);
}

function attempts(d: Delivery): string {
	switch (d.attempts) {
		case 0:
			return t`no attempt yet`;
		case 1:
			return t`1 attempt`;
		default:
			return t`${d.attempts} attempts`;
	}
}

const final = new Set(["delivered", "bounced", "expired", "discarded"]);

/** End is where a delivery stands: its state, the exact reply, and what comes. */
function End({ delivery: d, took }: { delivery: Delivery; took: string }) {
	const host = d.last_reply?.host;
	return (
		<div className={classes.stop} data-kind="end" data-state={d.state}>
			<div className={classes.title}>
				<State state={d.state} />{" "}
				<Text span size="xs" c="dimmed">
					{final.has(d.state) ? <When time={d.finished_at} /> : null}
				</Text>
			</div>
			{d.last_reply && <div className={`mono ${classes.answer}`}>{words(d.last_reply)}</div>}
			<Text size="xs" c="dimmed">
				{took && t`${took} after it was received; `}
				{host && `${d.last_reply?.code ? t`said by` : "at"} ${host}`}
				{!final.has(d.state) && (
					<>
						{host && "; "}
						<Trans>
							next attempt <When due time={d.next_attempt_at} />, expires <When time={d.expires_at} />
						</Trans>
					</>
				)}
			</Text>
		</div>
	);
}
