import { t } from "@lingui/core/macro";

/** A page of the navigation; one within another is reached from there, and by the palette. */
export type PageInfo = {
	to: string;
	label: string;
	within?: string;
	/** It shows whoever is bounded to domains what is about them. */
	bounded?: boolean;
};

export const pages: PageInfo[] = [
	{ to: "/", label: t`Overview` },
	{ to: "/snags", label: t`Snags` },
	{ to: "/queue", label: t`Queue`, bounded: true },
	{ to: "/trace", label: t`Trace`, bounded: true },
	{ to: "/held", label: t`Held`, bounded: true },
	{ to: "/reports", label: t`Reports`, bounded: true },
	{ to: "/readiness", label: t`Readiness` },
	{ to: "/reputation", label: t`Reputation`, within: "/held" },
	{ to: "/setup", label: t`Set up`, bounded: true },
	{ to: "/explain", label: t`Explain` },
	{ to: "/probe", label: t`Probe` },
];

/** The pages of somebody who is bounded to domains, or is not. */
export const pagesWithin = (domains: string[]) => pages.filter((p) => domains.length === 0 || p.bounded);

/** The page of the navigation that a path belongs to. */
export function pageOf(path: string): PageInfo | undefined {
	const own = (p: PageInfo) => p.to !== "/" && path.startsWith(p.to);
	return pages.find(own) ?? (path === "/" ? pages[0] : path.startsWith("/messages") ? pages[3] : undefined);
}
