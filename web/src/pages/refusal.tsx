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
		return view.error ? <Failed error={view.error} /> : <Loading what="the refusal" />;
	}
	const { refusal: r, meaning } = view.data;
	return (
		<Stack gap="md">
			<ArchiveNote />
			<Group justify="space-between" align="start">
				<Heading>
					{r.subject || "Not taken"} <State state="refused" />
				</Heading>
				<Group gap="xs">
					<CopyButton value={view.data.for_user}>
						{({ copied, copy }) => (
							<Button size="xs" variant="default" leftSection={<IconCopy size={14} />} onClick={copy}>
								{copied ? "Copied" : "Copy for the user"}
							</Button>
						)}
					</CopyButton>
					{archive === undefined && <WatchButton what={r.client_address} />}
				</Group>
			</Group>
			<Text size="sm">
				from <span className="mono">{shown(r.sender)}</span> to <span className="mono">{r.recipient || "–"}</span>,{" "}
				<When time={r.at} /> ({exact(r.at)}), at stage {r.stage}; client{" "}
				<span className="mono">
					{r.client_address} {r.helo && `(${r.helo})`}
				</span>{" "}
				at listener {r.listener}
				{r.account && (
					<>
						, account <span className="mono">{r.account}</span>
					</>
				)}
				. It has no message of its own: it was refused before.
			</Text>
			<div>
				<Text size="sm" mb={4}>
					The client was told:
				</Text>
				<Code block>
					{r.code} {r.enhanced} {r.text}
				</Code>
			</div>
			<section className={classes.cause}>
				<Text fw={600}>{meaning.title}</Text>
				<Text size="sm">
					{meaning.fix} Who can fix it: {meaning.who_can_fix.replace("-", " ")}.
				</Text>
				{r.rule && (
					<Text size="sm">
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
							Explain it with the settings of now
						</To>
					</Text>
				)}
			</section>
			{view.data.session && (
				<Text size="sm">
					<To to="/sessions/$id" params={{ id: r.session_id }} search={{ archive }} inherit>
						Read the transcript of the session
					</To>
				</Text>
			)}
		</Stack>
	);
}
