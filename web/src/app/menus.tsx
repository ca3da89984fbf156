import { i18n } from "@lingui/core";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { ActionIcon, Menu, UnstyledButton, useMantineColorScheme } from "@mantine/core";
import { IconCheck, IconMenu2, IconUser } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { Link, useLocation } from "@tanstack/react-router";
import { useChoices, zoneOf } from "../api/choices";
import { gull } from "../api/client";
import { choose } from "../api/kept";
import { called, languages } from "../api/language";
import { useBounds } from "../parts/may";
import { pageOf, pagesWithin } from "./pages";
import classes from "./shell.module.css";

/** PagesMenu is the navigation where there is no room for it in a line. */
export function PagesMenu() {
	const here = pageOf(useLocation().pathname);
	const bounds = useBounds();
	return (
		<Menu defaultOpened>
			<Menu.Target>
				<UnstyledButton className={classes.pages} title={t`All pages`}>
					<IconMenu2 size={20} /> {here?.label}
				</UnstyledButton>
			</Menu.Target>
			<Menu.Dropdown>
				{pagesWithin(bounds).map((p) => (
					<Menu.Item key={p.to} component={Link} to={p.to}>
						{p.label}
					</Menu.Item>
				))}
			</Menu.Dropdown>
		</Menu>
	);
}

const Check = ({ on }: { on: boolean }) => (
	<IconCheck size={14} opacity={on ? 1 : 0} aria-label={on ? t`chosen` : undefined} />
);

/** The account, how times are told and how things look. */
export function AccountMenu() {
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	const who = me.data;
	const choices = useChoices();
	const { colorScheme, setColorScheme } = useMantineColorScheme();
	if (!who) {
		return null;
	}
	return (
		<Menu defaultOpened>
			<Menu.Target>
				<ActionIcon variant="subtle" className={classes.icon} aria-label={t`Signed in as ${who.name}`}>
					<IconUser size={18} />
				</ActionIcon>
			</Menu.Target>
			<Menu.Dropdown>
				<Menu.Label>
					{who.name}, {who.role === "viewer" ? t`may look, not change` : who.role}
				</Menu.Label>
				<Menu.Divider />
				<Menu.Label>
					<Trans>Times</Trans>
				</Menu.Label>
				{[
					{ zone: "browser", label: t`in my zone: ${zoneOf({ ...choices, zone: "browser" })}` },
					{ zone: "UTC", label: t`in UTC` },
				].map((z) => (
					<Menu.Item
						key={z.zone}
						leftSection={<Check on={choices.zone === z.zone} />}
						onClick={() => choose({ zone: z.zone })}
					>
						{z.label}
					</Menu.Item>
				))}
				<Menu.Item leftSection={<Check on={choices.exact} />} onClick={() => choose({ exact: !choices.exact })}>
					<Trans>as such, not as so long ago ( t )</Trans>
				</Menu.Item>
				<Menu.Divider />
				<Menu.Label>
					<Trans>Looks</Trans>
				</Menu.Label>
				<Menu.Item leftSection={<Check on={choices.dense} />} onClick={() => choose({ dense: !choices.dense })}>
					<Trans>low rows in lists</Trans>
				</Menu.Item>
				{(["auto", "light", "dark"] as const).map((c) => (
					<Menu.Item key={c} leftSection={<Check on={colorScheme === c} />} onClick={() => setColorScheme(c)}>
						{c === "auto" ? t`colours as the system has them` : c === "light" ? t`light colours` : t`dark colours`}
					</Menu.Item>
				))}
				<Menu.Divider />
				<Menu.Label>
					<Trans>Language</Trans>
				</Menu.Label>
				{languages.map((l) => (
					<Menu.Item
						key={l}
						lang={l}
						leftSection={<Check on={i18n.locale === l} />}
						onClick={() => void choose({ language: l }).then(() => window.location.reload())}
					>
						{called(l)}
					</Menu.Item>
				))}
				<Menu.Divider />
				<Menu.Item component={Link} to="/account">
					<Trans>Password and sessions</Trans>
				</Menu.Item>
				<Menu.Item onClick={() => void gull.signOut().finally(() => window.location.assign("/"))}>
					<Trans>Sign out</Trans>
				</Menu.Item>
			</Menu.Dropdown>
		</Menu>
	);
}
