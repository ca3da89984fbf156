import { List } from "@mantine/core";

/** WhyVerdict lists what a verdict rests on, in numbers. */
export function WhyVerdict({ why }: { why?: string[] | null }) {
	if (!why?.length) {
		return null;
	}
	return (
		<List size="sm" mt={4} withPadding>
			{why.map((w) => (
				<List.Item key={w}>{w}</List.Item>
			))}
		</List>
	);
}
