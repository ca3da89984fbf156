import { Checkbox, Group, SegmentedControl, Stack, Text, Title } from "@mantine/core";
import { useInfiniteQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { type SnagWords, snags } from "../api/snags";
import { FilterText } from "../parts/filter";
import { MoreButton } from "../parts/more";
import { SnagTable } from "../parts/snag";
import { Failed, Loading, Nothing } from "../parts/states";
import { plural } from "../parts/text";

/** What is wrong, worst first: each cause at each place once. */
export function SnagsPage() {
	const words = useSearch({ from: "/snags" }) as SnagWords;
	const navigate = useNavigate();
	const set = (change: SnagWords) =>
		void navigate({ to: "/snags", search: { ...words, ...change } as never, replace: true });
	const list = useInfiniteQuery({
		queryKey: ["snags", words],
		queryFn: ({ pageParam }) => snags.list(words, pageParam, 50),
		initialPageParam: "",
		getNextPageParam: (last) => last.next || undefined,
	});
	const items = list.data?.pages.flatMap((p) => p.items) ?? [];
	const counts = list.data?.pages[0]?.counts;
	return (
		<Stack gap="md">
			<Group justify="space-between">
				<Group gap="md">
					<Title order={1} size="h3">
						Snags
					</Title>
					<SegmentedControl
						size="xs"
						aria-label="State"
						data={[
							{ value: "open", label: "Open" },
							{ value: "closed", label: "Over" },
						]}
						value={words.state ?? "open"}
						onChange={(v) => set({ state: v === "closed" ? "closed" : undefined })}
					/>
				</Group>
				<Group gap="md">
					{counts && (
						<Text size="sm" c="dimmed">
							{plural(counts.critical ?? 0, "critical", "critical")}, {counts.serious ?? 0} serious, {counts.minor ?? 0}{" "}
							minor
						</Text>
					)}
					<FilterText label="Place" value={words.place} onChange={(place) => set({ place })} />
					<Checkbox
						size="xs"
						label="Muted too"
						checked={words.muted ?? false}
						onChange={(e) => set({ muted: e.currentTarget.checked || undefined })}
					/>
				</Group>
			</Group>
			{list.error && !list.data && <Failed error={list.error} />}
			{list.isPending && <Loading what="the snags" />}
			{list.data && (
				<div className="surface">
					{items.length === 0 ? (
						<Nothing title={words.state === "closed" ? "None has ended yet" : "Nothing is in trouble"}>
							A snag opens by itself when deliveries fail for the same cause at the same place, and ends by itself.
						</Nothing>
					) : (
						<SnagTable items={items} />
					)}
				</div>
			)}
			<MoreButton query={list} />
		</Stack>
	);
}
