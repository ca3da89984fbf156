import "@mantine/core/styles.layer.css";
import "@mantine/notifications/styles.layer.css";
import "mantine-datatable/styles.layer.css";
import { Notifications } from "@mantine/notifications";
import { RouterProvider } from "@tanstack/react-router";
import { router } from "./router";

/** The console for whoever is signed in. */
export default function App() {
	return (
		<>
			<Notifications position="bottom-right" />
			<RouterProvider router={router} />
		</>
	);
}
