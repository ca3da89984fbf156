import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Group, Modal, Stack, Text } from "@mantine/core";
import { useBlocker } from "@tanstack/react-router";

/**
 * Guard holds on to a form that is not saved: whoever goes to another page, closes the
 * form or reads the page again is asked first. dirty is asked at that moment.
 */
export function Guard({ dirty }: { dirty: () => boolean }) {
	const blocker = useBlocker({ shouldBlockFn: dirty, enableBeforeUnload: dirty, withResolver: true });
	return (
		<Modal
			opened={blocker.status === "blocked"}
			onClose={() => blocker.reset?.()}
			title={t`Leave without saving?`}
			zIndex={400}
		>
			<Stack gap="sm">
				<Text size="sm">
					<Trans>What you changed in this form is not saved yet.</Trans>
				</Text>
				<Group justify="end">
					<Button variant="default" color="buoy" onClick={() => blocker.proceed?.()}>
						<Trans>Leave it</Trans>
					</Button>
					<Button onClick={() => blocker.reset?.()} data-autofocus>
						<Trans>Go on with it</Trans>
					</Button>
				</Group>
			</Stack>
		</Modal>
	);
}
