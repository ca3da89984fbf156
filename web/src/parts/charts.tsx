import "@mantine/charts/styles.layer.css";

/** The charts' library, in a piece of its own: it is read when the first chart is drawn. */
export { AreaChart, BarChart } from "@mantine/charts";
