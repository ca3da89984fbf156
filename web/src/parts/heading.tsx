import { Title } from "@mantine/core";
import { type ReactNode, useEffect, useRef } from "react";

let at: string | undefined;

/**
 * Heading is the name of a page. It is also that of the browser's tab, and where the
 * keyboard and a reader's voice go when one comes to the page from another.
 */
export function Heading({ children, className }: { children: ReactNode; className?: string }) {
	const ref = useRef<HTMLHeadingElement>(null);
	useEffect(() => {
		const text = ref.current?.innerText.replace(/\s+/g, " ").trim();
		const title = text ? `${text} – Gull Route` : "Gull Route";
		if (document.title !== title) {
			document.title = title;
		}
	});
	useEffect(() => {
		const busy = document.activeElement?.closest("input, textarea, select, [role=dialog]");
		if (!busy && at !== undefined && at !== window.location.pathname) {
			ref.current?.focus({ preventScroll: true });
		}
		at = window.location.pathname;
	}, []);
	return (
		<Title ref={ref} order={1} size="h3" tabIndex={-1} className={className} style={{ outline: "none" }}>
			{children}
		</Title>
	);
}
