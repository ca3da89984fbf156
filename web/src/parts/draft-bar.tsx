import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Group, Text } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { IconAlertTriangle } from "@tabler/icons-react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { gull } from "../api/client";
import { type Hazard, setup } from "../api/setup";
import classes from "./draft-bar.module.css";
import { useMayChange } from "./may";
import { plural } from "./text";
import { To, ToButton } from "./to";
import { When } from "./when";

/** DraftBar is in sight on every page while there are changes not in force. */
export function DraftBar() {
	const draft = useQuery({ queryKey: ["draft"], queryFn: () => setup.draft() });
	const d = draft.data;
	if (!d?.exists) {
		return null;
	}
	const who = [...new Set((d.log ?? []).map((l) => l.who))].join(t` and `);
	return (
		<>
			<div className={classes.room} />
			<section className={classes.bar} aria-label={t`Draft`}>
				<Group justify="space-between" gap="sm">
					<Text size="sm">
						<Trans>
							<b>
								<Trans>{plural(d.changes.length, t`change`, t`changes`)} in the draft</Trans>
							</b>
							, not in force yet
						</Trans>
						{who && t` — by ${who}`}
						<Trans>
							, last <When time={d.changed_at} />
						</Trans>
						{d.stale && t`. Another revision came into force meanwhile.`}
					</Text>
					<ToButton to="/setup/draft" size="xs" variant="white" color="dark">
						<Trans>Look, rehearse, apply</Trans>
					</ToButton>
				</Group>
			</section>
		</>
	);
}

/** Hazards are shown on every page until they are fixed. */
export function Hazards() {
	const status = useQuery({ queryKey: ["status"], queryFn: gull.status });
	const client = useQueryClient();
	const may = useMayChange();
	const confirm = useMutation({
		mutationFn: (n: number) => setup.confirm(n),
		onSuccess: () => void client.invalidateQueries(),
		onError: (e) => notifications.show({ color: "buoy", title: t`Not confirmed`, message: e.message }),
	});
	const s = status.data;
	if (!s) {
		return null;
	}
	const shown = (s.hazards ?? []).filter(isTrouble);
	return (
		<>
			{s.confirm_by && (
				<Alert color="brass" mb="sm" role="alert" title={t`Revision ${s.revision} goes back by itself`}>
					<Group gap="sm">
						<Text size="sm">
							<Trans>
								<When time={s.confirm_by} /> it is taken back, unless somebody keeps it.
							</Trans>
						</Text>
						<Button size="xs" disabled={!may} loading={confirm.isPending} onClick={() => confirm.mutate(s.revision)}>
							<Trans>Keep it</Trans>
						</Button>
					</Group>
				</Alert>
			)}
			{shown.length > 0 && (
				<Alert
					color="buoy"
					mb="sm"
					role="alert"
					icon={<IconAlertTriangle />}
					title={t`This server is not safe as it is set up`}
				>
					<HazardList hazards={shown} />
				</Alert>
			)}
		</>
	);
}

/** isTrouble are hazards that every page shows: they stop or endanger mail now. */
export function isTrouble(h: Hazard): boolean {
	return (
		(h.blocks && h.kind !== "discards") ||
		h.kind === "listener_trouble" ||
		h.kind === "locked_key" ||
		h.kind === "former_primary"
	);
}

const places: Record<string, string> = {
	open_relay: "/setup/relay_rules",
	discards: "/setup/gates",
	clear_sign_in: "/setup/listeners",
	lost_mailboxes: "/setup/domains",
	listener_trouble: "/setup/listeners",
	no_way_out: "/setup/routes",
	no_postmaster: "/setup/service",
	never_used: "/setup/draft",
	locked_key: "/readiness",
	former_primary: "/setup/review",
};

export function HazardList({ hazards }: { hazards: Hazard[] }) {
	return (
		<ul className={classes.list}>
			{hazards.map((h) => (
				<li key={h.where + h.text}>
					{h.text}.{" "}
					<To to={places[h.kind] ?? "/setup"} inherit fw={600}>
						<Trans>Fix it</Trans>
					</To>
					: {h.fix}.
				</li>
			))}
		</ul>
	);
}
