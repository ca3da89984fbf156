import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Badge, Box, Button, Group, Select, Stack, Table, Text, TextInput, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { type Exception, type ExceptionOrder, type Reputation, strangers } from "../api/strangers";
import { Heading } from "../parts/heading";
import { useMayWork } from "../parts/may";
import { Result } from "../parts/sound";
import { Failed, Loading, Nothing } from "../parts/states";
import { To } from "../parts/to";
import { exact, When } from "../parts/when";

/** What is known of strangers, whom people allow or deny, and how the lists do. */
export function ReputationPage() {
	const { about } = useSearch({ from: "/reputation" });
	const navigate = useNavigate();
	const [typed, setTyped] = useState(about ?? "");
	const submit = (e: FormEvent) => {
		e.preventDefault();
		void navigate({ to: "/reputation", search: { about: typed.trim() || undefined } });
	};
	return (
		<Stack gap="md">
			<div>
				<Heading>
					<Trans>Reputation</Trans>
				</Heading>
				<Text size="sm" c="dimmed">
					<Trans>What lists, names and our own history say of who sends to us, and whom people allow or deny.</Trans>
				</Text>
			</div>
			<form onSubmit={submit}>
				<Group gap="xs" align="end">
					<TextInput
						size="xs"
						w={320}
						label={t`IP address or domain`}
						placeholder="127.30.0.65"
						value={typed}
						onChange={(e) => setTyped(e.currentTarget.value)}
					/>
					<Button size="xs" type="submit">
						<Trans>Ask</Trans>
					</Button>
				</Group>
			</form>
			{about ? <Of key={about} about={about} /> : <State />}
		</Stack>
	);
}

function Of({ about }: { about: string }) {
	const of = useQuery({ queryKey: ["reputation", about], queryFn: () => strangers.of(about), retry: false });
	if (!of.data) {
		return of.error ? <Failed error={of.error} /> : <Loading what={t`what the lists say`} />;
	}
	const x = of.data;
	return (
		<>
			<Box className="surface" p="sm">
				<Group justify="space-between" align="start">
					<div>
						<Title order={2} size="h4">
							<span className="mono">{x.about}</span> {x.says === "allow" && <Result of="pass">{t`allowed`}</Result>}
							{x.says === "deny" && <Result of="fail">{t`denied`}</Result>}
						</Title>
						<Text size="sm">
							{x.says ? (
								x.why
							) : (
								<Trans>
									Score {x.points} before any message. Within 30 days we took {counted(x.messages)} messages from it and
									refused {counted(x.refusals)}.
								</Trans>
							)}
						</Text>
						<Text size="sm" c="dimmed">
							<NameOf of={x} />
							{x.last_at && (
								<>
									{" "}
									<Trans>
										It came last <When time={x.last_at} />.
									</Trans>
								</>
							)}
						</Text>
					</div>
					<To to="/trace" search={{ q: x.kind === "address" ? `client:${x.about}` : `domain:${x.about}` }} size="sm">
						<Trans>Its messages</Trans>
					</To>
				</Group>
				{x.parts.length > 0 && (
					<Table mt="sm" w="auto" horizontalSpacing="sm">
						<Table.Tbody>
							{x.parts.map((p) => (
								<Table.Tr key={p.signal}>
									<Table.Td ta="right" fw={650}>
										{p.points}
									</Table.Td>
									<Table.Td>{p.signal}</Table.Td>
									<Table.Td c="dimmed">{p.why}</Table.Td>
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				)}
			</Box>
			<Except about={x} />
			<Box className="surface" p="sm">
				<Title order={2} size="h5" mb="xs">
					<Trans>What each list says</Trans>
				</Title>
				{x.lists.length === 0 ? (
					<Text size="sm">
						<Trans>No list is asked about such things. Add one under Set up, DNS lists.</Trans>
					</Text>
				) : (
					<Table.ScrollContainer minWidth={560} scrollAreaProps={{ viewportProps: { tabIndex: 0 } }}>
						<Table horizontalSpacing="sm">
							<Table.Tbody>
								{x.lists.map((l) => (
									<Table.Tr key={l.list}>
										<Table.Td fw={600} w={160}>
											{l.list}
										</Table.Td>
										<Table.Td w={170}>
											{l.trouble ? (
												<Result of="warning">{t`not asked`}</Result>
											) : l.listed ? (
												<Result of={l.kind === "allow" ? "pass" : "fail"}>{t`listed`}</Result>
											) : (
												<Text size="sm" c="dimmed">
													<Trans>not listed</Trans>
												</Text>
											)}
										</Table.Td>
										<Table.Td>
											{l.trouble ?? l.text}
											{l.listed && l.ask_at && (
												<Text size="xs" c="dimmed">
													<Trans>Ask at {l.ask_at}</Trans>
												</Text>
											)}
										</Table.Td>
									</Table.Tr>
								))}
							</Table.Tbody>
						</Table>
					</Table.ScrollContainer>
				)}
			</Box>
			{x.exceptions.length > 0 && <Exceptions list={x.exceptions} />}
		</>
	);
}

const counted = (n: number) => (n >= 1000 ? t`1,000 or more` : String(n));

function NameOf({ of }: { of: Reputation }) {
	if (of.kind !== "address") {
		return null;
	}
	switch (of.name_state) {
		case "good":
			return <Trans>Its name is {of.name}.</Trans>;
		case "forged":
			return <Trans>Its name {of.name} does not lead back to it.</Trans>;
		case "none":
			return <Trans>It has no name.</Trans>;
	}
	return <Trans>DNS does not say its name.</Trans>;
}

const lengths = () => [
	{ value: "1d", label: t`for a day` },
	{ value: "7d", label: t`for a week` },
	{ value: "30d", label: t`for 30 days` },
	{ value: "", label: t`for good` },
];

/** Except allows or denies what is looked at. */
function Except({ about }: { about: Reputation }) {
	const may = useMayWork();
	const done = useDone();
	const [length, setLength] = useState("7d");
	const [why, setWhy] = useState("");
	const except = useMutation({
		mutationFn: (says: ExceptionOrder["says"]) =>
			strangers.except({ value: about.about, says, for: length || undefined, why: why || undefined }),
		...done,
	});
	return (
		<Group gap="xs" align="end">
			<Select
				size="xs"
				w={140}
				label={t`How long`}
				data={lengths()}
				value={length}
				allowDeselect={false}
				onChange={(v) => setLength(v ?? "")}
			/>
			<TextInput
				size="xs"
				w={280}
				label={t`Why (stands in the log)`}
				value={why}
				onChange={(e) => setWhy(e.currentTarget.value)}
			/>
			<Button
				size="xs"
				variant="default"
				disabled={!may}
				loading={except.isPending}
				onClick={() => except.mutate("allow")}
			>
				{about.kind === "address" ? t`Allow its address` : t`Allow its senders, where proved`}
			</Button>
			<Button
				size="xs"
				variant="default"
				color="buoy"
				disabled={!may}
				loading={except.isPending}
				onClick={() => except.mutate("deny")}
			>
				{about.kind === "address" ? t`Deny its address` : t`Deny its senders`}
			</Button>
		</Group>
	);
}

function useDone() {
	const client = useQueryClient();
	return {
		onSuccess: (d: { text: string }) => {
			notifications.show({ color: "kelp", message: d.text });
			void client.invalidateQueries({ queryKey: ["reputation"] });
		},
		onError: (e: Error) => notifications.show({ color: "buoy", title: t`Nothing was changed`, message: e.message }),
	};
}

function State() {
	const state = useQuery({ queryKey: ["reputation"], queryFn: strangers.weighing });
	if (!state.data) {
		return state.error ? <Failed error={state.error} /> : <Loading what={t`how strangers are weighed`} />;
	}
	const x = state.data;
	return (
		<>
			<Box className="surface" p="sm">
				{x.score === "off" ? (
					<Text size="sm">
						<Trans>
							Strangers are not weighed. Let the score watch first (Set up, Server, Reputation): it is shown and decides
							nothing.
						</Trans>
					</Text>
				) : (
					<Text size="sm">
						{x.score === "watch" && (
							<Badge size="xs" variant="outline" color="gray" tt="none" mr={6}>
								<Trans>only watches</Trans>
							</Badge>
						)}
						<Trans>
							Marked from {x.thresholds.mark} points on, held from {x.thresholds.hold}, refused from{" "}
							{x.thresholds.refuse} (0 is never).
						</Trans>
					</Text>
				)}
				<Text size="sm">
					{x.greylisting === "off" ? (
						<Trans>Nobody is greylisted.</Trans>
					) : (
						<Trans>
							Greylisting: {x.waiting} must come again, {x.known} are known.
						</Trans>
					)}
				</Text>
			</Box>
			<Box className="surface" p="sm">
				<Title order={2} size="h5" mb="xs">
					<Trans>Lists</Trans>
				</Title>
				{x.lists.length === 0 ? (
					<Nothing title={t`No list is asked`}>
						<Trans>Add one under Set up, DNS lists.</Trans>
					</Nothing>
				) : (
					<Table horizontalSpacing="sm">
						<Table.Tbody>
							{x.lists.map((l) => (
								<Table.Tr key={l.name}>
									<Table.Td fw={600} w={160}>
										{l.name}
									</Table.Td>
									<Table.Td className="mono" w={260}>
										{l.zone}
									</Table.Td>
									<Table.Td>
										{l.off ? (
											<Trans>off</Trans>
										) : l.trouble ? (
											<>
												<Result of="fail">{t`not asked`}</Result> {l.trouble}
											</>
										) : l.checked ? (
											<Result of="pass">{t`well`}</Result>
										) : (
											<Trans>not asked yet</Trans>
										)}
									</Table.Td>
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				)}
			</Box>
			<Exceptions list={x.exceptions} />
		</>
	);
}

function Exceptions({ list }: { list: Exception[] }) {
	const may = useMayWork();
	const done = useDone();
	const forget = useMutation({
		mutationFn: (e: Exception) => strangers.forget({ value: e.value, kind: e.kind, says: e.says }),
		...done,
	});
	return (
		<Box className="surface" p="sm">
			<Title order={2} size="h5" mb="xs">
				<Trans>Whom people allow or deny</Trans>
			</Title>
			{list.length === 0 ? (
				<Text size="sm" c="dimmed">
					<Trans>Nobody, besides what the settings say. Ask for an address or a domain to allow or deny it.</Trans>
				</Text>
			) : (
				<Table.ScrollContainer minWidth={640}>
					<Table horizontalSpacing="sm">
						<Table.Tbody>
							{list.map((e) => (
								<Table.Tr key={e.kind + e.value}>
									<Table.Td w={90}>
										<Result of={e.says === "allow" ? "pass" : "fail"}>
											{e.says === "allow" ? t`allowed` : t`denied`}
										</Result>
									</Table.Td>
									<Table.Td className="mono">{e.value}</Table.Td>
									<Table.Td>{e.kind}</Table.Td>
									<Table.Td>{e.until ? t`until ${exact(e.until)}` : t`for good`}</Table.Td>
									<Table.Td>
										{e.who}
										{e.why && `: ${e.why}`}
									</Table.Td>
									<Table.Td ta="right">
										<Button
											size="compact-xs"
											variant="default"
											disabled={!may}
											aria-label={t`Take back the exception for ${e.value}`}
											onClick={() => forget.mutate(e)}
										>
											<Trans>Take back</Trans>
										</Button>
									</Table.Td>
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				</Table.ScrollContainer>
			)}
		</Box>
	);
}
