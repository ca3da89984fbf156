import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Stack, Text, Title } from "@mantine/core";
import { IconAlertTriangle } from "@tabler/icons-react";
import type { ReactNode } from "react";
import { To } from "./to";

export { Loading } from "./loading";

export function Failed({ error }: { error: Error }) {
	return (
		<Alert color="buoy" icon={<IconAlertTriangle />} title={t`This cannot be shown`} role="alert">
			{error.message}
		</Alert>
	);
}

export function Nothing({ title, children }: { title: string; children?: ReactNode }) {
	return (
		<Stack align="center" gap={4} p="xl">
			<Text fw={600}>{title}</Text>
			<Text size="sm" c="dimmed" ta="center">
				{children}
			</Text>
		</Stack>
	);
}

export function NotFound() {
	return (
		<Stack p="xl" gap="xs">
			<Title order={2}>
				<Trans>There is no such page</Trans>
			</Title>
			<To to="/">
				<Trans>Go to the overview</Trans>
			</To>
		</Stack>
	);
}
