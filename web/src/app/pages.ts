import { t } from "@lingui/core/macro";

/** A page of the navigation; one within another is reached from there, and by the palette. */
export type PageInfo = { to: string; label: string; within?: string };

export const pages: PageInfo[] = [
	{ to: "/", label: t`Overview` },
	{ to: "/snags", label: t`Snags` },
	{ to: "/queue", label: t`Queue` },
	{ to: "/trace", label: t`Trace` },
	{ to: "/held", label: t`Held` },
	{ to: "/reports", label: t`Reports` },
	{ to: "/readiness", label: t`Readiness` },
	{ to: "/reputation", label: t`Reputation`, within: "/held" },
	{ to: "/setup", label: t`Set up` },
	{ to: "/explain", label: t`Explain` },
	{ to: "/probe", label: t`Probe` },
];

/** The page of the navigation that a path belongs to. */
export function pageOf(path: string): PageInfo | undefined {
	const own = (p: PageInfo) => p.to !== "/" && path.startsWith(p.to);
	return pages.find(own) ?? (path === "/" ? pages[0] : path.startsWith("/messages") ? pages[3] : undefined);
}
