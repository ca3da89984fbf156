import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Radio, Stack, Text } from "@mantine/core";
import { title, words } from "./fields";
import type { Clash } from "./merge";

/** What two people changed in different ways, to choose from, field by field. */
export function Clashes({
	clashes,
	mine,
	choose,
	others,
}: {
	clashes: Clash[];
	/** The fields in which mine counts. */
	mine: string[];
	choose: (field: string, mine: boolean) => void;
	/** The fields that only somebody else changed. */
	others: string[];
}) {
	return (
		<Alert color="brass" role="alert" title={t`Somebody else changed this while you had it open`}>
			<Stack gap="xs">
				{others.length > 0 && (
					<Text size="sm">
						<Trans>Theirs are taken over: {others.map(title).join(", ")}.</Trans>
					</Text>
				)}
				{clashes.length === 0 ? (
					<Text size="sm">
						<Trans>You changed other fields: both are kept. Look, and save again.</Trans>
					</Text>
				) : (
					<Text size="sm">
						<Trans>You both changed these. Choose for each, and save again.</Trans>
					</Text>
				)}
				{clashes.map((c) => (
					<Radio.Group
						key={c.field}
						label={title(c.field)}
						value={mine.includes(c.field) ? "mine" : "theirs"}
						onChange={(v) => choose(c.field, v === "mine")}
					>
						<Stack gap={2} mt={2}>
							<Radio size="xs" value="theirs" label={t`theirs: ${words(c.theirs) || t`nothing`}`} />
							<Radio size="xs" value="mine" label={t`mine: ${words(c.mine) || t`nothing`}`} />
						</Stack>
					</Radio.Group>
				))}
			</Stack>
		</Alert>
	);
}
