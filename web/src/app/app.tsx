import { piece } from "../api/piece";
import "./styles";
import { RouterProvider } from "@tanstack/react-router";
import { lazy, Suspense, useEffect, useState } from "react";
import { useChoices } from "../api/choices";
import { begin } from "../api/live";
import { queries } from "../api/queries";
import { router } from "./router";

const Notices = lazy(() => piece(() => import("./notices")));

/** The console for whoever is signed in. */
export default function App() {
	const choices = useChoices();
	const [idle, setIdle] = useState(false);
	useEffect(() => {
		begin(queries);
		// What is to be told waits for its place, which is read when the page stands.
		const timer = window.setTimeout(() => setIdle(true), 2500);
		return () => window.clearTimeout(timer);
	}, []);
	return (
		<>
			<Suspense fallback={null}>{idle && <Notices />}</Suspense>
			{/* Times stand everywhere: another zone draws the page anew. */}
			<RouterProvider key={choices.zone} router={router} />
		</>
	);
}
