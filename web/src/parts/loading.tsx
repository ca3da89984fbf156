import { Trans } from "@lingui/react/macro";
import { Center, Loader, Text } from "@mantine/core";

export function Loading({ what }: { what: string }) {
	return (
		<Center p="xl" role="status">
			<Loader size="sm" mr="sm" />
			<Text size="sm" c="dimmed">
				<Trans>Reading {what} …</Trans>
			</Text>
		</Center>
	);
}
