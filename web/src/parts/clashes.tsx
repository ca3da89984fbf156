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
		<Alert color="brass" role="alert" title="Somebody else changed this while you had it open">
			<Stack gap="xs">
				{others.length > 0 && <Text size="sm">Theirs are taken over: {others.map(title).join(", ")}.</Text>}
				{clashes.length === 0 ? (
					<Text size="sm">You changed other fields: both are kept. Look, and save again.</Text>
				) : (
					<Text size="sm">You both changed these. Choose for each, and save again.</Text>
				)}
				{clashes.map((c) => (
					<Radio.Group
						key={c.field}
						label={title(c.field)}
						value={mine.includes(c.field) ? "mine" : "theirs"}
						onChange={(v) => choose(c.field, v === "mine")}
					>
						<Stack gap={2} mt={2}>
							<Radio size="xs" value="theirs" label={`theirs: ${words(c.theirs) || "nothing"}`} />
							<Radio size="xs" value="mine" label={`mine: ${words(c.mine) || "nothing"}`} />
						</Stack>
					</Radio.Group>
				))}
			</Stack>
		</Alert>
	);
}
