import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import "@mantine/spotlight/styles.layer.css";
import { Spotlight } from "@mantine/spotlight";
import { IconArrowRight, IconMail, IconSearch, IconSettings } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useDeferredValue, useState } from "react";
import { queue } from "../api/queue";
import { type SectionKey, setup } from "../api/setup";
import { useBounds } from "../parts/may";
import { deeper, helps } from "./page-helps";
import { pagesWithin } from "./pages";

type Entry = { id: string; label: string; description?: string; icon: React.ReactNode; go: () => void };

const sections: SectionKey[] = [
	"domains",
	"routes",
	"listeners",
	"relay_rules",
	"peers",
	"gates",
	"lists",
	"dns_lists",
	"scanners",
	"dns_servers",
	"certificates",
];

/** The palette goes anywhere by a few letters: pages, items, lanes, mailboxes, messages. */
export default function Palette({ open, onClose }: { open: boolean; onClose: () => void }) {
	const [text, setText] = useState("");
	const late = useDeferredValue(text.trim());
	const navigate = useNavigate();
	const bounds = useBounds();
	const whole = bounds.length === 0;
	const lanes = useQuery({
		queryKey: ["palette", "lanes"],
		queryFn: () => queue.lanes({}, "", 100),
		enabled: open && whole,
		staleTime: 30_000,
	});
	const items = useQuery({
		queryKey: ["palette", "items"],
		queryFn: async () => Promise.all(sections.map(async (s) => ({ s, names: (await setup.list(s)).items }))),
		enabled: open && whole,
		staleTime: 30_000,
	});
	const boxes = useQuery({
		queryKey: ["palette", "mailboxes", late],
		queryFn: () => setup.mailboxes({ search: late, limit: 6 }),
		enabled: open && late.length > 1,
		staleTime: 30_000,
	});
	const go = (to: string, search?: Record<string, unknown>) => () => {
		onClose();
		setText("");
		void navigate({ to, search } as never);
	};
	const all: Entry[] = [
		...pagesWithin(bounds).map((p) => ({
			id: p.to,
			label: p.label,
			description: helps[p.to]?.about,
			icon: <IconArrowRight size={16} />,
			go: go(p.to),
		})),
		...(whole ? deeper : []).map((p) => ({
			id: p.label,
			label: p.label,
			icon: <IconArrowRight size={16} />,
			go: go(p.to, p.search),
		})),
		...(lanes.data?.items ?? []).map((l) => ({
			id: `lane ${l.id}`,
			label: t`Lane ${l.next_hop}`,
			description: t`${l.state}, by ${l.route}`,
			icon: <IconMail size={16} />,
			go: go(`/queue/${encodeURIComponent(l.id)}`),
		})),
		...(items.data ?? []).flatMap(({ s, names }) =>
			names.map((i) => ({
				id: `${s} ${i.name}`,
				label: `${s.replace("_", " ").replace(/s$/, "")} ${i.name}`,
				icon: <IconSettings size={16} />,
				go: go(`/setup/${s}`, { item: i.name }),
			})),
		),
	];
	const words = late.toLowerCase().split(/\s+/).filter(Boolean);
	const found = all
		.filter((e) => words.every((w) => `${e.label} ${e.description ?? ""}`.toLowerCase().includes(w)))
		.slice(0, words.length > 0 ? 12 : pagesWithin(bounds).length);
	const entries: Entry[] = [
		...found,
		...(boxes.data?.items ?? []).map((m) => ({
			id: `box ${m.address}`,
			label: t`mailbox ${m.address}`,
			description: m.name,
			icon: <IconSettings size={16} />,
			go: go("/setup/mailboxes", { item: m.address }),
		})),
		...(late
			? [
					{
						id: "search",
						label: t`Where is “${late}”?`,
						description: t`search all messages`,
						icon: <IconSearch size={16} />,
						go: /^[0-9a-hjkmnp-tv-z]{13}$/i.test(late)
							? go(`/messages/${late.toUpperCase()}`)
							: go("/trace", { q: late }),
					},
				]
			: []),
	];
	return (
		<Spotlight.Root
			query={text}
			onQueryChange={setText}
			forceOpened={open}
			onSpotlightClose={onClose}
			shortcut={null}
			scrollable
			maxHeight={420}
		>
			<Spotlight.Search
				placeholder={t`A page, a lane, a route, a mailbox, a message …`}
				aria-label={t`Go to`}
				leftSection={<IconSearch size={18} />}
			/>
			<Spotlight.ActionsList>
				{entries.map((e) => (
					<Spotlight.Action
						key={e.id}
						label={e.label}
						description={e.description}
						leftSection={e.icon}
						onClick={e.go}
						closeSpotlightOnTrigger={false}
					/>
				))}
				{entries.length === 0 && (
					<Spotlight.Empty>
						<Trans>Nothing of that name</Trans>
					</Spotlight.Empty>
				)}
			</Spotlight.ActionsList>
		</Spotlight.Root>
	);
}
