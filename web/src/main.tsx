import "@mantine/core/styles.layer.css";
import "@mantine/charts/styles.layer.css";
import "@mantine/notifications/styles.layer.css";
import "mantine-datatable/styles.layer.css";
import "./app/base.css";
import { MantineProvider } from "@mantine/core";
import { Notifications } from "@mantine/notifications";
import { QueryClientProvider } from "@tanstack/react-query";
import { RouterProvider } from "@tanstack/react-router";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { queries } from "./api/queries";
import { router } from "./app/router";
import { colours, theme } from "./app/theme";

const root = document.getElementById("root");
if (root) {
	createRoot(root).render(
		<StrictMode>
			<MantineProvider theme={theme} cssVariablesResolver={colours} defaultColorScheme="auto">
				<Notifications position="bottom-right" />
				<QueryClientProvider client={queries}>
					<RouterProvider router={router} />
				</QueryClientProvider>
			</MantineProvider>
		</StrictMode>,
	);
}
