import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Group, Stack, Text, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { tracing } from "../api/trace";
import { octets } from "./text";
import { To } from "./to";

const atOnce = 14;

/** Days that the service archived by itself: each opens with one press, also when it is forgotten here. */
export function ArchivedDays({ may }: { may: boolean }) {
	const days = useQuery({ queryKey: ["archived-days"], queryFn: tracing.days });
	const [all, setAll] = useState(false);
	const client = useQueryClient();
	const open = useMutation({
		mutationFn: tracing.openDay,
		onSuccess: () => {
			void client.invalidateQueries({ queryKey: ["archives"] });
			void client.invalidateQueries({ queryKey: ["archived-days"] });
		},
		onError: (e) => notifications.show({ color: "buoy", title: t`The day was not opened`, message: e.message }),
	});
	const list = days.data?.items ?? [];
	if (list.length === 0) {
		return null;
	}
	return (
		<section className="surface" aria-labelledby="archived-days">
			<Stack gap={6} p="sm">
				<Title order={2} size="h5" id="archived-days">
					<Trans>Days that are archived here</Trans>
				</Title>
				<Group gap={6}>
					{(all ? list : list.slice(0, atOnce)).map((d) =>
						d.archive ? (
							<To key={d.day} to="/trace" search={{ archive: d.archive }} size="sm">
								{d.day}
							</To>
						) : (
							<Button
								key={d.day}
								size="compact-sm"
								variant="default"
								disabled={!may}
								loading={open.isPending && open.variables === d.day}
								title={t`Open it: ${octets(d.size)}`}
								onClick={() => open.mutate(d.day)}
							>
								{d.day}
							</Button>
						),
					)}
					{!all && list.length > atOnce && (
						<Button size="compact-sm" variant="subtle" onClick={() => setAll(true)}>
							<Trans>All {list.length}</Trans>
						</Button>
					)}
				</Group>
				<Text size="xs" c="dimmed">
					<Trans>A day that is open is searched, read and reported on as if it were here.</Trans>
				</Text>
			</Stack>
		</section>
	);
}
