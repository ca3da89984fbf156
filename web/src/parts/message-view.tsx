import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { SegmentedControl, Stack, Title } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { queue } from "../api/queue";
import { ContentShown } from "./content-shown";
import { Failed, Loading } from "./states";

/** MessageView shows a message's text, header and structure. Nothing in it is run or fetched. */
export function MessageView({ id }: { id: string }) {
	const view = useSearch({ from: "/messages/$id" }).message ?? "";
	const navigate = useNavigate();
	const setView = (message: string) =>
		void navigate({
			to: "/messages/$id",
			params: { id },
			search: { message: message || undefined },
			replace: true,
			resetScroll: false,
		});
	const message = useQuery({
		queryKey: ["message-view", id],
		queryFn: () => queue.view(id),
		enabled: view !== "",
		staleTime: Number.POSITIVE_INFINITY,
		refetchInterval: false,
	});
	return (
		<section className="surface" aria-labelledby="message">
			<Stack gap="xs" p="sm">
				<Title order={2} size="h5" id="message">
					<Trans>The message</Trans>
				</Title>
				<SegmentedControl
					size="xs"
					w="fit-content"
					aria-label={t`What of the message`}
					value={view}
					onChange={setView}
					data={[
						{ value: "", label: t`Hidden` },
						{ value: "text", label: t`Text` },
						{ value: "fields", label: t`Header` },
						{ value: "raw", label: t`Header as received` },
						{ value: "parts", label: t`Structure` },
					]}
				/>
				{view !== "" &&
					!message.data &&
					(message.error ? <Failed error={message.error} /> : <Loading what={t`the message`} />)}
				{message.data && view !== "" && <ContentShown message={message.data} view={view} />}
			</Stack>
		</section>
	);
}
