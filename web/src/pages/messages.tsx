import { Anchor, Group, Select, Stack, Title } from "@mantine/core";
import { useDebouncedCallback } from "@mantine/hooks";
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { DataTable } from "mantine-datatable";
import { gull, type Message, type TraceWords } from "../api/client";
import { FilterText } from "../parts/filter";
import { State } from "../parts/state";
import { Failed, Loading, Nothing } from "../parts/states";
import { octets, shown, soft } from "../parts/text";
import { When } from "../parts/when";

const pageSize = 100;
const states = ["waiting", "deferred", "held", "delivered", "bounced", "expired"];

/** Messages, newest first, by sender, recipient, subject or state. */
export function MessagesPage() {
	const words = useSearch({ from: "/messages" });
	const navigate = useNavigate();
	const set = useDebouncedCallback((change: TraceWords) => {
		void navigate({ to: "/messages", search: { ...words, ...change }, replace: true });
	}, 300);
	return (
		<Stack gap="sm">
			<Title order={1} size="h3">
				Messages
			</Title>
			<Group gap="xs" key={JSON.stringify(words.to ?? "")}>
				<FilterText label="Sender" value={words.from} onChange={(from) => set({ from })} />
				<FilterText label="Recipient" value={words.to} onChange={(to) => set({ to })} />
				<FilterText label="Subject" value={words.subject} onChange={(subject) => set({ subject })} />
				<Select
					size="xs"
					w={130}
					aria-label="State"
					placeholder="Any state"
					clearable
					data={states}
					value={words.state ?? null}
					onChange={(v) => set({ state: v ?? undefined })}
				/>
			</Group>
			<Found words={words} />
		</Stack>
	);
}

function Found({ words }: { words: TraceWords }) {
	const navigate = useNavigate();
	const found = useInfiniteQuery({
		queryKey: ["messages", words],
		queryFn: ({ pageParam }) => gull.find(words, pageParam, pageSize),
		initialPageParam: "",
		getNextPageParam: (last) => last.next || undefined,
	});
	if (!found.data) {
		return found.error ? <Failed error={found.error} /> : <Loading what="the messages" />;
	}
	const items = found.data.pages.flatMap((p) => p.items);
	if (items.length === 0) {
		return (
			<div className="surface">
				<Nothing title="No message matches">
					A part of an address or subject is enough. What was refused before it had an id is not among these.
				</Nothing>
			</div>
		);
	}
	return (
		<div className="surface">
			<DataTable<Message>
				records={items}
				verticalSpacing={5}
				withTableBorder={false}
				backgroundColor="var(--gull-surface)"
				height="calc(100vh - 190px)"
				fetching={found.isFetchingNextPage}
				onScrollToBottom={() => found.hasNextPage && void found.fetchNextPage()}
				onRowClick={({ record }) => void navigate({ to: "/messages/$id", params: { id: record.id } as never })}
				columns={[
					{ accessor: "received_at", title: "Came", width: 90, render: (m) => <When time={m.received_at} /> },
					{ accessor: "state", title: "State", width: 120, render: (m) => <Sum message={m} /> },
					{
						accessor: "subject",
						title: "Subject",
						render: (m) => (
							<Anchor component={Link} to="/messages/$id" params={{ id: m.id } as never} inherit>
								{m.subject || "(no subject)"}
							</Anchor>
						),
					},
					{ accessor: "sender", title: "From", render: (m) => <span className="mono">{soft(shown(m.sender))}</span> },
					{ accessor: "deliveries", title: "To", render: (m) => <To message={m} /> },
					{ accessor: "size", title: "Size", textAlign: "right", width: 80, render: (m) => octets(m.size) },
					{ accessor: "id", title: "Id", width: 130, render: (m) => <span className="mono">{m.id}</span> },
				]}
			/>
		</div>
	);
}

/** The worst state counts: that is what somebody asks about. */
const worstFirst = ["bounced", "expired", "deferred", "held", "waiting", "sending", "delivered", "discarded"];

function Sum({ message }: { message: Message }) {
	const has = new Set(message.deliveries.map((d) => d.state));
	const worst = worstFirst.find((s) => has.has(s));
	return worst ? <State state={worst} /> : null;
}

function To({ message }: { message: Message }) {
	const first = message.deliveries[0];
	if (!first) {
		return null;
	}
	const more = message.deliveries.length - 1;
	return (
		<span className="mono" title={message.deliveries.map((d) => d.recipient).join("\n")}>
			{soft(first.recipient)}
			{more > 0 && ` and ${more} more`}
		</span>
	);
}
