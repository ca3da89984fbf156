import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Code, Text } from "@mantine/core";

/** Codes for recovery, shown this once; nothing where there are none. */
export function Codes({ codes }: { codes: string[] }) {
	if (codes.length === 0) {
		return null;
	}
	return (
		<Alert color="brass" title={t`Keep these apart from the telephone; they are shown this once`}>
			<Text size="xs">
				<Trans>Each stands for a code once.</Trans>
			</Text>
			<Code block>{codes.join("\n")}</Code>
		</Alert>
	);
}
