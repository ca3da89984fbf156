import { t } from "@lingui/core/macro";
import { Stack } from "@mantine/core";
import { Outlet } from "@tanstack/react-router";
import { useBounds } from "../parts/may";
import { To } from "../parts/to";
import classes from "./setup.module.css";

const pages: [string, string][] = [
	["/setup", t`First steps`],
	["/setup/domains", t`Domains`],
	["/setup/mailboxes", t`Mailboxes`],
	["/setup/aliases", t`Aliases`],
	["/setup/listeners", t`Listeners`],
	["/setup/relay_rules", t`Relay rules`],
	["/setup/routes", t`Routes`],
	["/setup/peers", t`Peers`],
	["/setup/gates", t`Gates`],
	["/setup/lists", t`Lists`],
	["/setup/dns_lists", t`DNS lists`],
	["/setup/scanners", t`Scanners`],
	["/setup/dns_servers", t`DNS servers`],
	["/setup/certificates", t`Certificates`],
	["/setup/secrets", t`Secrets`],
	["/setup/operators", t`Operators`],
	["/setup/audit", t`Audit log`],
	["/setup/service", t`Server`],
	["/setup/review", t`Review`],
	["/setup/draft", t`Draft`],
	["/setup/revisions", t`Revisions`],
];

/** The pages of setting up, under one row of links. */
export function SetupFrame() {
	const bounds = useBounds();
	return (
		<Stack gap="sm">
			<nav aria-label={t`Set up`} className={classes.row}>
				{pages
					.filter(([to]) => bounds.length === 0 || to === "/setup/mailboxes" || to === "/setup/aliases")
					.map(([to, label]) => (
						<To key={to} to={to} activeOptions={{ exact: to === "/setup" }} className={classes.tab} size="sm">
							{label}
						</To>
					))}
			</nav>
			<Outlet />
		</Stack>
	);
}
