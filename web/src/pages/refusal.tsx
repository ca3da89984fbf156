import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Code, CopyButton, Group, Stack, Text } from "@mantine/core";
import { IconCopy } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useParams, useSearch } from "@tanstack/react-router";
import { tracing } from "../api/trace";
import { ArchiveNote } from "../parts/archive";
import { Heading } from "../parts/heading";
import { State } from "../parts/state";
import { Failed, Loading } from "../parts/states";
import { shown } from "../parts/text";
import { To } from "../parts/to";
import { WatchButton } from "../parts/watch";
import { exact, When } from "../parts/when";
import classes from "./message.module.css";

/** What was refused before it became a message: who, what, why, and what to do. */
export function RefusalPage() {
	const { id } = useParams({ from: "/refusals/$id" });
	const { archive } = useSearch({ from: "/refusals/$id" });
	const view = useQuery({
		queryKey: ["refusal", id, archive],
		queryFn: () => tracing.refusal(id, archive),
		meta: { past: () => true },
	});
	if (!view.data) {
		return view.error ? <Failed error={view.error} /> : <Loading what={t`the refusal`} />;
	}
	const { refusal: r, meaning } = view.data;
	return (
		<Stack gap="md">
			<ArchiveNote />
			<Group justify="space-between" align="start">
				<Heading>
					{r.subject || t`Not taken`} <State state="refused" />
				</Heading>
				<Group gap="xs">
					<CopyButton value={view.data.for_user}>
						{({ copied, copy }) => (
							<Button size="xs" variant="default" leftSection={<IconCopy size={14} />} onClick={copy}>
								{copied ? t`Copied` : t`Copy for the user`}
							</Button>
						)}
					</CopyButton>
					{archive === undefined && <WatchButton what={r.client_address} />}
				</Group>
			</Group>
			<Text size="sm">
				<Trans>
					from <span className="mono">{shown(r.sender)}</span> to <span className="mono">{r.recipient || "–"}</span>,{" "}
					<When time={r.at} /> ({exact(r.at)}), at stage {r.stage}; client
				</Trans>{" "}
				<span className="mono">
					{r.client_address} {r.helo && `(${r.helo})`}
				</span>{" "}
				<Trans>at listener {r.listener}</Trans>
				{r.account && (
					<Trans>
						, account <span className="mono">{r.account}</span>
					</Trans>
				)}
				<Trans>. It has no message of its own: it was refused before.</Trans>
			</Text>
			<div>
				<Text size="sm" mb={4}>
					<Trans>The client was told:</Trans>
				</Text>
				<Code block>
					{r.code} {r.enhanced} {r.text}
				</Code>
			</div>
			<section className={classes.cause}>
				<Text fw={600}>{meaning.title}</Text>
				<Text size="sm">
					<Trans>
						{meaning.fix} Who can fix it: {meaning.who_can_fix.replace("-", " ")}.
					</Trans>
				</Text>
				{r.rule && (
					<Text size="sm">
						<Trans>
							Decided by rule {r.rule}, revision {r.revision}.{" "}
							<To
								to="/explain"
								search={{
									from: r.sender || undefined,
									to: r.recipient || undefined,
									client: r.client_address,
									listener: r.listener,
								}}
								inherit
							>
								<Trans>Explain it with the settings of now</Trans>
							</To>
						</Trans>
					</Text>
				)}
			</section>
			{view.data.session && (
				<Text size="sm">
					<To to="/sessions/$id" params={{ id: r.session_id }} search={{ archive }} inherit>
						<Trans>Read the transcript of the session</Trans>
					</To>
				</Text>
			)}
		</Stack>
	);
}
