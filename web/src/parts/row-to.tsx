import { type LinkProps, useRouter } from "@tanstack/react-router";
import type { ReactNode } from "react";
import { query } from "../api/ask";

type RowToProps = {
	to: NonNullable<LinkProps["to"]>;
	params?: Record<string, string>;
	search?: Record<string, string | number | undefined>;
	strong?: boolean;
	children: ReactNode;
};

/**
 * RowTo is the link of a row in a list. It is as light as a link can be: while one scrolls,
 * some are made in every frame.
 */
export function RowTo({ to, params, search, strong, children }: RowToProps) {
	const router = useRouter();
	const path = to.replace(/\$(\w+)/g, (_, name: string) => encodeURIComponent(params?.[name] ?? ""));
	const href = path + query(search ?? {});
	return (
		<a
			href={href}
			tabIndex={-1}
			className="cell-link"
			style={strong ? { fontWeight: 600 } : undefined}
			onClick={(e) => {
				if (e.button === 0 && !e.ctrlKey && !e.metaKey && !e.shiftKey && !e.altKey) {
					e.preventDefault();
					router.history.push(href);
				}
			}}
		>
			{children}
		</a>
	);
}
