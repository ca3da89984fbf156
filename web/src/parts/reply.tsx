import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Code, Group, Stack, Text } from "@mantine/core";
import type { LastReply } from "../api/client";

/** ReplyLine is a reply on one line: where, and the exact words. */
export function ReplyLine({ reply }: { reply: LastReply | null }) {
	if (!reply) {
		return <Text span>–</Text>;
	}
	return (
		<span>
			<Text span c="dimmed" inherit>
				{reply.stage}:{" "}
			</Text>
			<span className="mono">{words(reply)}</span>
		</span>
	);
}

/** The words of a reply, for copying. */
export const replyText = (reply: LastReply | null) => (reply ? words(reply) : "");

export function words(reply: LastReply): string {
	return [reply.code || "", reply.enhanced, reply.text].filter(Boolean).join(" ");
}

/** Reply is a reply in full: its words, who said it, and the hosts before. */
export function Reply({ reply }: { reply: LastReply }) {
	return (
		<Stack gap={4}>
			<Code block className="mono" style={{ whiteSpace: "pre-wrap" }}>
				{words(reply)}
			</Code>
			<Group gap="md">
				<Text size="xs" c="dimmed">
					{reply.code ? t`said by` : t`at`} {reply.host || t`this server`}
					{reply.address && ` [${reply.address}]`}
					<Trans>, stage {reply.stage}</Trans>
				</Text>
				{reply.tls && (
					<Text size="xs" c="dimmed">
						{reply.tls}
					</Text>
				)}
			</Group>
			{(reply.tried ?? []).map((t) => (
				<Text size="xs" c="dimmed" key={`${t.host} ${t.address}`}>
					<Trans>
						before that {t.host} [{t.address}]: {t.stage}: <span className="mono">{words(t)}</span>
					</Trans>
				</Text>
			))}
		</Stack>
	);
}
