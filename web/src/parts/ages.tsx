import { t } from "@lingui/core/macro";
import { useQuery } from "@tanstack/react-query";
import { agesOf } from "../api/ages";
import classes from "./ages.module.css";
import { count } from "./text";
import { span } from "./when";

/** How long a lane's messages have waited, as a strip: the young ones left, the old ones right. */
export function AgeStrip({ lane, all }: { lane: string; all: number }) {
	const ages = useQuery({ queryKey: ["ages", lane], queryFn: () => agesOf(lane), enabled: all > 0 });
	const parts = (ages.data ?? []).filter((a) => a.messages > 0);
	const words = parts
		.map((a) => `${a.to ? t`up to ${span(a.to)}` : t`over ${span(a.from)}`}: ${count(a.messages)}${a.more ? "+" : ""}`)
		.join(", ");
	return (
		<span className={classes.strip} role="img" aria-label={words || t`nothing waits`} title={words}>
			{(ages.data ?? []).map(
				(a, i) =>
					a.messages > 0 && (
						<span key={a.from} className={classes.part} data-age={i} style={{ flexGrow: Math.sqrt(a.messages) }} />
					),
			)}
		</span>
	);
}
