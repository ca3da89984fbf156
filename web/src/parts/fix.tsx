import { Trans } from "@lingui/react/macro";
import type { Lane } from "../api/client";
import { To } from "./to";

/** Why a lane is stranded, and the fix beside it: the messages then leave by themselves. */
export function WhyStranded({ lane }: { lane: Lane }) {
	return (
		<Trans>
			{lane.why}.{" "}
			<To to="/setup/$section" params={{ section: "routes" }} search={{ item: "+" }} inherit fw={600}>
				<Trans>Add a route</Trans>
			</To>{" "}
			and apply it: they leave by themselves.
		</Trans>
	);
}
