import "@mantine/core/styles/Switch.layer.css";
import "@mantine/core/styles/NumberInput.layer.css";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import {
	Button,
	FileButton,
	Group,
	NumberInput,
	Select,
	SimpleGrid,
	Stack,
	Switch,
	Table,
	TagsInput,
	Text,
	TextInput,
	Title,
} from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { Fragment, useState } from "react";
import { gull } from "../api/client";
import { type Answer, setup } from "../api/setup";
import { Heading } from "../parts/heading";
import { wordOf } from "../parts/names";
import { Failed, Loading } from "../parts/states";
import { soft } from "../parts/text";
import { To } from "../parts/to";
import classes from "./setup.module.css";

type Words = {
	from?: string;
	to?: string;
	client?: string;
	listener?: string;
	account?: string;
	size?: number;
	draft?: boolean;
	other_client?: string;
	other_from?: string;
};

/** What would be decided for an envelope, check by check; nothing is sent. */
export function ExplainPage() {
	const search = useSearch({ from: "/explain" }) as Words;
	const navigate = useNavigate();
	const status = useQuery({ queryKey: ["status"], queryFn: gull.status });
	const [words, setWords] = useState<Words>(search);
	const set = (w: Words) => setWords({ ...words, ...w });
	const compare = words.other_client !== undefined || words.other_from !== undefined;
	const [comparing, setComparing] = useState(compare);
	const [file, setFile] = useState<Message | null>(null);
	return (
		<Stack gap="sm">
			<div>
				<Heading>
					<Trans>Explain</Trans>
				</Heading>
				<Text size="sm" c="dimmed">
					<Trans>What would be decided for this envelope, by the very rules that decide. Nothing is sent.</Trans>
				</Text>
			</div>
			<form
				className="surface"
				style={{ padding: 12 }}
				onDragOver={(e) => e.preventDefault()}
				onDrop={(e) => {
					e.preventDefault();
					void read(e.dataTransfer.files[0]).then(setFile);
				}}
				onSubmit={(e) => {
					e.preventDefault();
					const second = comparing ? {} : { other_client: undefined, other_from: undefined };
					void navigate({ to: "/explain", search: { ...words, ...second } });
				}}
			>
				<SimpleGrid cols={{ base: 1, sm: 2, lg: 3 }} spacing="xs">
					<TextInput
						size="xs"
						label={t`Client`}
						description={t`Address it comes from`}
						placeholder="127.0.0.1"
						value={words.client ?? ""}
						onChange={(e) => set({ client: e.currentTarget.value || undefined })}
					/>
					<Select
						size="xs"
						label={t`Listener`}
						description={t`Where it comes in`}
						data={(status.data?.listeners ?? []).map((l) => l.name)}
						value={words.listener ?? null}
						placeholder={t`the first`}
						clearable
						onChange={(v) => set({ listener: v ?? undefined })}
					/>
					<TextInput
						size="xs"
						label={t`Account`}
						description={t`Who signed in`}
						placeholder={t`nobody`}
						value={words.account ?? ""}
						onChange={(e) => set({ account: e.currentTarget.value || undefined })}
					/>
					<TextInput
						size="xs"
						label={t`Sender`}
						description={t`Empty is the null sender`}
						value={words.from ?? ""}
						onChange={(e) => set({ from: e.currentTarget.value || undefined })}
					/>
					<TagsInput
						size="xs"
						label={t`Recipients`}
						description={t`One or several`}
						withAsterisk
						acceptValueOnBlur
						splitChars={[",", " "]}
						value={words.to ? words.to.split(" ") : []}
						onChange={(v) => set({ to: v.join(" ") || undefined })}
					/>
					<NumberInput
						size="xs"
						label={t`Size`}
						description={t`Octets`}
						value={words.size ?? ""}
						onChange={(v) => set({ size: Number(v) || undefined })}
						hideControls
					/>
				</SimpleGrid>
				{comparing && (
					<SimpleGrid cols={{ base: 1, sm: 2, lg: 3 }} spacing="xs" mt="xs">
						<TextInput
							size="xs"
							label={t`Compare with client`}
							value={words.other_client ?? ""}
							onChange={(e) => set({ other_client: e.currentTarget.value || undefined })}
						/>
						<TextInput
							size="xs"
							label={t`Compare with sender`}
							value={words.other_from ?? ""}
							onChange={(e) => set({ other_from: e.currentTarget.value || undefined })}
						/>
					</SimpleGrid>
				)}
				<Group mt="sm" gap="md">
					<Button size="xs" type="submit" disabled={!words.to}>
						<Trans>Explain</Trans>
					</Button>
					<FileButton onChange={(f) => void read(f).then(setFile)} accept=".eml,message/rfc822,text/plain">
						{(props) => (
							<Button {...props} size="xs" variant="default">
								{file ? t`Message: ${file.name}` : t`Choose or drop a message (.eml)`}
							</Button>
						)}
					</FileButton>
					{file && (
						<Button size="xs" variant="subtle" onClick={() => setFile(null)}>
							<Trans>Without it</Trans>
						</Button>
					)}
					<Switch
						size="xs"
						label={t`Compare with a second client or sender`}
						checked={comparing}
						onChange={(e) => setComparing(e.currentTarget.checked)}
					/>
					<Switch
						size="xs"
						label={t`Ask the draft`}
						checked={words.draft ?? false}
						onChange={(e) => set({ draft: e.currentTarget.checked || undefined })}
					/>
				</Group>
			</form>
			{search.to && (
				<SimpleGrid cols={{ base: 1, lg: search.other_client || search.other_from ? 2 : 1 }}>
					<Answers words={search} message={file} />
					{(search.other_client || search.other_from) && (
						<Answers
							words={{
								...search,
								client: search.other_client ?? search.client,
								from: search.other_from ?? search.from,
							}}
							message={file}
						/>
					)}
				</SimpleGrid>
			)}
		</Stack>
	);
}

/** A message that gates are asked about; its content is in base64. */
type Message = { name: string; content: string };

/** read takes a file as it is. */
async function read(file: File | null | undefined): Promise<Message | null> {
	if (!file) {
		return null;
	}
	const url = await new Promise<string>((done, failed) => {
		const reader = new FileReader();
		reader.onload = () => done(String(reader.result));
		reader.onerror = () => failed(reader.error);
		reader.readAsDataURL(file);
	});
	return { name: file.name, content: url.slice(url.indexOf(",") + 1) };
}

function Answers({ words, message }: { words: Words; message: Message | null }) {
	const question = {
		from: words.from ?? "",
		to: (words.to ?? "").split(" "),
		client: words.client ?? "127.0.0.1",
		listener: words.listener,
		account: words.account,
		size: words.size,
		draft: words.draft,
		content: message?.content,
	};
	const answers = useQuery({
		queryKey: ["explain", question],
		queryFn: () => setup.explain(question),
		refetchInterval: false,
	});
	if (!answers.data) {
		return answers.error ? <Failed error={answers.error} /> : <Loading what={t`the decision`} />;
	}
	return (
		<Stack gap="sm">
			<Text size="sm" fw={600}>
				<Trans>
					{words.account ?? question.client}, as {words.from || "<>"}
				</Trans>
			</Text>
			{answers.data.items.map((a) => (
				<One key={a.recipient} answer={a} client={words.account ?? question.client} listener={words.listener} />
			))}
		</Stack>
	);
}

const fates = (): Record<string, string> => ({
	taken: t`is taken`,
	refused: t`is refused`,
	held: t`is taken and held`,
	discarded: t`is taken and discarded`,
	delayed: t`is taken and delayed`,
});

/** gateWord is what a gate says, in a word. */
function gateWord(g: Answer["gates"][number]): string {
	switch (g.result) {
		case "met":
			return g.watching ? t`watches` : t`met`;
		case "unknown":
			return t`not known`;
		case "not_asked":
			return t`not asked`;
	}
	return t`not met`;
}

/** One is the answer for a recipient: the verdict, the way as a picture, and every check. */
function One({ answer, client, listener }: { answer: Answer; client: string; listener?: string }) {
	const a = answer;
	return (
		<section className="surface" style={{ padding: 12 }}>
			<Title
				order={2}
				size="h4"
				className={classes.kind}
				data-tone={a.allowed ? undefined : "trouble"}
				style={{ whiteSpace: "normal" }}
			>
				{a.allowed ? "● " : "▲ "}
				{soft(a.recipient)} {fates()[a.allowed ? a.fate : "refused"]}
				{a.severity !== "none" && t`, severity ${wordOf(a.severity)}`}
			</Title>
			<Text size="sm">
				<Trans>
					{a.why}. The client hears: <span className="mono">{a.reply}</span>
				</Trans>
			</Text>
			<div className={classes.picture} role="img" aria-label={t`The path of ${a.recipient}`}>
				<Stop head={client} text={t`client`} />
				<span className={classes.line} />
				<Stop head={listener ?? t`the first listener`} text={t`listener`} />
				<span className={classes.line} data-tone={a.allowed ? undefined : "trouble"} />
				<Stop
					head={a.rule}
					text={a.rule_line > 0 ? t`relay rule, line ${a.rule_line}` : t`built in`}
					tone={a.allowed ? "moves" : "trouble"}
				/>
				<div className={classes.branches}>
					{a.paths.map((w) => (
						<Branch key={w.recipient} way={w} />
					))}
				</div>
			</div>
			<Table verticalSpacing={2} horizontalSpacing="xs" fz="sm">
				<Table.Tbody>
					{a.checks.map((c) => (
						<Table.Tr key={c.what}>
							<Table.Td w={90} className={classes.kind} data-tone={c.result === "refused" ? "trouble" : undefined}>
								{wordOf(c.result)}
							</Table.Td>
							<Table.Td w={240}>{c.what}</Table.Td>
							<Table.Td c={c.result === "no_match" ? "dimmed" : undefined}>{c.text}</Table.Td>
						</Table.Tr>
					))}
					{(a.gates ?? []).map((g) => (
						<Table.Tr key={g.gate}>
							<Table.Td className={classes.kind} data-tone={g.result === "met" && !g.watching ? "waits" : undefined}>
								{gateWord(g)}
							</Table.Td>
							<Table.Td>
								<To to="/setup/$section" params={{ section: "gates" }} search={{ item: g.gate }} inherit>
									<Trans>gate {g.gate}</Trans>
								</To>
							</Table.Td>
							<Table.Td c={g.result === "met" ? undefined : "dimmed"}>
								{g.result === "met" && <b>{(g.effects ?? []).join(", ")} </b>}
								{(g.why ?? []).join("; ")}
							</Table.Td>
						</Table.Tr>
					))}
					{a.paths.map((w) => (
						<Fragment key={w.recipient}>
							{w.earlier.map((c) => (
								<Table.Tr key={c.what}>
									<Table.Td className={classes.kind}>
										<Trans>no match</Trans>
									</Table.Td>
									<Table.Td>{c.what}</Table.Td>
									<Table.Td c="dimmed">{c.text}</Table.Td>
								</Table.Tr>
							))}
							<Table.Tr>
								<Table.Td className={classes.kind}>{w.stranded ? t`stranded` : t`decides`}</Table.Td>
								<Table.Td>
									<Trans>route {w.route}</Trans>
								</Table.Td>
								<Table.Td>
									{soft(w.recipient)}: {w.why}
									{w.peer && t`; as agreed with ${w.peer}`}
									{w.written && t`; written ${w.written}`}
									{w.passed_on && t`; passed on: ${w.passed_on}`}
									{w.trouble && <b> — {w.trouble}</b>}
									{w.hosts.map((h) => (
										<div key={h.name} className="mono">
											{h.preference} {h.name} <Trans>port</Trans> {h.port} {h.trouble ?? h.addresses.join(", ")}
											{h.tls && !h.trouble && <div>{h.tls}</div>}
										</div>
									))}
								</Table.Td>
							</Table.Tr>
						</Fragment>
					))}
				</Table.Tbody>
			</Table>
		</section>
	);
}

/** Branch is the way of one delivery, from the rule on. */
function Branch({ way: w }: { way: Answer["paths"][number] }) {
	const here = w.next_hop === "local";
	const tone = w.stranded || w.trouble ? "waits" : "moves";
	return (
		<div className={classes.branch}>
			{w.via.map((v) => (
				<Fragment key={v}>
					<span className={classes.line} />
					<Stop head={soft(v)} text={t`alias or forward`} />
				</Fragment>
			))}
			<span className={classes.line} data-tone={w.stranded ? "waits" : undefined} />
			<Stop
				head={w.route}
				text={w.stranded ? t`stranded: no route leads on` : t`route`}
				tone={w.stranded ? "waits" : "moves"}
			/>
			<span className={classes.line} data-tone={tone === "waits" ? "waits" : undefined} />
			<Stop
				head={soft(here ? w.recipient : w.next_hop)}
				text={here ? t`mailbox` : t`next hop, TLS ${w.tls}`}
				tone={tone}
			/>
		</div>
	);
}

function Stop({ head, text, tone }: { head: string; text: string; tone?: string }) {
	return (
		<div className={classes.stop} data-tone={tone}>
			<Text size="sm" fw={600}>
				{head}
			</Text>
			<Text size="xs" c="dimmed">
				{text}
			</Text>
		</div>
	);
}
