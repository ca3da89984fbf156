import "@mantine/core/styles.layer.css";
import "@mantine/notifications/styles.layer.css";
import { Notifications } from "@mantine/notifications";
import { RouterProvider } from "@tanstack/react-router";
import { useEffect } from "react";
import { useChoices } from "../api/choices";
import { begin } from "../api/live";
import { queries } from "../api/queries";
import { router } from "./router";

/** The console for whoever is signed in. */
export default function App() {
	const choices = useChoices();
	useEffect(() => begin(queries), []);
	return (
		<>
			<Notifications position="bottom-right" />
			{/* Times stand everywhere: another zone draws the page anew. */}
			<RouterProvider key={choices.zone} router={router} />
		</>
	);
}
