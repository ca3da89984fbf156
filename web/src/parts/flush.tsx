import { Button, Tooltip } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { IconSend } from "@tabler/icons-react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { gull, type QueueWords } from "../api/client";
import { plural } from "./text";

/** Flush tries what the words select now. A viewer sees why it is not for them. */
export function Flush({ words, label }: { words: QueueWords & { message?: string }; label: string }) {
	const client = useQueryClient();
	const me = useQuery({ queryKey: ["me"], queryFn: gull.me });
	const flush = useMutation({
		mutationFn: () => gull.flush(words),
		onSuccess: ({ deliveries }) => {
			notifications.show({
				color: "kelp",
				message: deliveries
					? `${plural(deliveries, "delivery is", "deliveries are")} tried now.`
					: "Nothing waits for a later attempt; what is due is being tried already.",
			});
			void client.invalidateQueries();
		},
		onError: (e) => notifications.show({ color: "buoy", title: "Not flushed", message: e.message }),
	});
	const viewer = me.data?.role === "viewer";
	return (
		<Tooltip label={viewer ? "A viewer may look, not change" : "Try now. When it is given up does not change."}>
			<Button
				size="xs"
				variant="light"
				leftSection={<IconSend size={14} />}
				data-disabled={viewer || undefined}
				aria-disabled={viewer}
				loading={flush.isPending}
				onClick={() => !viewer && flush.mutate()}
			>
				{label}
			</Button>
		</Tooltip>
	);
}
