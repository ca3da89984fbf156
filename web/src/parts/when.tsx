import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Text } from "@mantine/core";
import { chosen } from "../api/choices";
import { choose } from "../api/kept";
import { useTold } from "./clock";
import { ago } from "./lengths";
import { exact, moment } from "./time";

export { ago, short, span } from "./lengths";
export { exact } from "./time";

/** AsOf says until when a standby had what was written, if it was read from one. */
export function AsOf({ time }: { time: string | null | undefined }) {
	return time ? (
		<Text size="xs" c="dimmed" span title={t`It was read from a standby of the database, which is a moment behind.`}>
			<Trans>as of {exact(time)}</Trans>
		</Text>
	) : null;
}

type WhenProps = { time: string | null | undefined; none?: string; due?: boolean };

/**
 * When shows a time as so long ago, or in so long, and as such if that was chosen: a press
 * on any of them, or the key t, turns all of them.
 */
export function When({ time, none = "–", due }: WhenProps) {
	const text = useTold((now) => (!time ? none : chosen().exact ? moment(time) : ago(time, now, due)));
	if (!time) {
		return <span>{none}</span>;
	}
	return (
		// biome-ignore lint/a11y/useKeyWithClickEvents: the key t does the same for the whole page
		<time
			dateTime={time}
			onPointerEnter={(e) => {
				e.currentTarget.title = exact(time); // made when somebody asks: there are many times
			}}
			style={{ whiteSpace: "nowrap" }}
			onClick={(e) => {
				e.stopPropagation();
				turnTimes();
			}}
		>
			{text}
		</time>
	);
}

/** turnTimes shows all times as such, or as so long ago. */
export function turnTimes() {
	choose({ exact: !chosen().exact });
}
