import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Badge, Button, Group } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { IconEye, IconEyeOff } from "@tabler/icons-react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { tracing } from "../api/trace";
import { useMayWork } from "./may";
import { When } from "./when";

/** Whose sessions are recorded in full for now. */
export function Watches() {
	const watches = useQuery({ queryKey: ["watches"], queryFn: tracing.watches });
	return (
		<Group gap={6}>
			{(watches.data?.items ?? []).map((w) => (
				<Badge key={w.what} tt="none" color="brass" variant="light" leftSection={<IconEye size={12} />}>
					<Trans>
						watching {w.what}, ends <When time={w.until} />
					</Trans>
				</Badge>
			))}
		</Group>
	);
}

/** Records sessions of a client or domain in full for an hour, or ends that. */
export function WatchButton({ what }: { what: string }) {
	const may = useMayWork();
	const watches = useQuery({ queryKey: ["watches"], queryFn: tracing.watches });
	const client = useQueryClient();
	if (!may || !what) {
		return null;
	}
	const on = (watches.data?.items ?? []).some((w) => w.what === what);
	const set = async () => {
		try {
			await tracing.watch(what, on ? "0s" : "1h");
			notifications.show({
				message: on ? t`${what} is not watched any more.` : t`Sessions with ${what} are recorded in full for an hour.`,
			});
		} catch (e) {
			notifications.show({ color: "buoy", message: (e as Error).message });
		}
		void client.invalidateQueries({ queryKey: ["watches"] });
	};
	return (
		<Button
			size="xs"
			variant="default"
			leftSection={on ? <IconEyeOff size={14} /> : <IconEye size={14} />}
			onClick={() => void set()}
		>
			{on ? t`Stop watching ${what}` : t`Watch ${what}`}
		</Button>
	);
}
