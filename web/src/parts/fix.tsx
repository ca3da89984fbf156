import { Anchor } from "@mantine/core";
import { Link } from "@tanstack/react-router";
import type { Lane } from "../api/client";

/** Why a lane is stranded, and the fix beside it: the messages then leave by themselves. */
export function WhyStranded({ lane }: { lane: Lane }) {
	return (
		<>
			{lane.why}.{" "}
			<Anchor
				component={Link}
				to="/setup/$section"
				params={{ section: "routes" } as never}
				search={{ item: "+" } as never}
				inherit
				fw={600}
			>
				Add a route
			</Anchor>{" "}
			and apply it: they leave by themselves.
		</>
	);
}
