import { Anchor, Stack } from "@mantine/core";
import { Link, Outlet } from "@tanstack/react-router";
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
					<Anchor
						key={to}
						component={Link}
						to={to}
						activeOptions={{ exact: to === "/setup" }}
						className={classes.tab}
						size="sm"
					>
						{label}
					</Anchor>
				))}
			</nav>
			<Outlet />
		</Stack>
	);
}
