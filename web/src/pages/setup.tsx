import { Stack } from "@mantine/core";
import { Outlet } from "@tanstack/react-router";
import { To } from "../parts/to";
import classes from "./setup.module.css";

const pages: [string, string][] = [
	["/setup", "First steps"],
	["/setup/domains", "Domains"],
	["/setup/mailboxes", "Mailboxes"],
	["/setup/aliases", "Aliases"],
	["/setup/listeners", "Listeners"],
	["/setup/relay_rules", "Relay rules"],
	["/setup/routes", "Routes"],
	["/setup/peers", "Peers"],
	["/setup/secrets", "Secrets"],
	["/setup/service", "Server"],
	["/setup/review", "Review"],
	["/setup/draft", "Draft"],
	["/setup/revisions", "Revisions"],
];

/** The pages of setting up, under one row of links. */
export function SetupFrame() {
	return (
		<Stack gap="sm">
			<nav aria-label="Set up" className={classes.row}>
				{pages.map(([to, label]) => (
					<To key={to} to={to} activeOptions={{ exact: to === "/setup" }} className={classes.tab} size="sm">
						{label}
					</To>
				))}
			</nav>
			<Outlet />
		</Stack>
	);
}
