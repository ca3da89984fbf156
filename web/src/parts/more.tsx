import { t } from "@lingui/core/macro";
import { Button, Group } from "@mantine/core";

/** Reads the next page, while there is one. */
export function MoreButton({
	query,
	label = t`More`,
}: {
	label?: string;
	query: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };
}) {
	if (!query.hasNextPage) {
		return null;
	}
	return (
		<Group justify="center">
			<Button size="xs" variant="default" loading={query.isFetchingNextPage} onClick={() => void query.fetchNextPage()}>
				{label}
			</Button>
		</Group>
	);
}
