import type { AreaChartProps, BarChartProps } from "@mantine/charts";
import { Box } from "@mantine/core";
import { lazy, Suspense } from "react";
import { piece } from "../api/piece";

const BarChart = lazy(async () => ({ default: (await piece(() => import("./charts"))).BarChart }));
const AreaChart = lazy(async () => ({ default: (await piece(() => import("./charts"))).AreaChart }));

/** Bars is a chart of bars; its place is kept while the charts' library is read. */
export function Bars(props: BarChartProps & { h: number }) {
	return (
		<Suspense fallback={<Box h={props.h} />}>
			<BarChart {...props} />
		</Suspense>
	);
}

/** Areas is a chart of areas, like Bars. */
export function Areas(props: AreaChartProps & { h: number }) {
	return (
		<Suspense fallback={<Box h={props.h} />}>
			<AreaChart {...props} />
		</Suspense>
	);
}
