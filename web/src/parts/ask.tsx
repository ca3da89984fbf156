import { t } from "@lingui/core/macro";
import { Button, Group, Modal, Stack, Text } from "@mantine/core";
import { type ReactNode, useState } from "react";

type Question = {
	/** What is about to be done, as a question. */
	title: string;
	/** What it touches: exactly what, what depends on it, how many messages. */
	text: ReactNode;
	/** What the button says that does it. */
	yes: string;
	no?: string;
	act: () => void;
};

/** useAsk asks before something that destroys: its dialog, and what opens it. */
export function useAsk(): [ReactNode, (q: Question) => void] {
	const [q, ask] = useState<Question | null>(null);
	const close = () => ask(null);
	return [
		<Modal key="ask" opened={q !== null} onClose={close} title={q?.title} zIndex={400}>
			<Stack gap="sm">
				<Text size="sm" component="div">
					{q?.text}
				</Text>
				<Group justify="end">
					<Button variant="default" onClick={close} data-autofocus>
						{q?.no ?? t`Keep it`}
					</Button>
					<Button
						color="buoy"
						onClick={() => {
							close();
							q?.act();
						}}
					>
						{q?.yes}
					</Button>
				</Group>
			</Stack>
		</Modal>,
		ask,
	];
}
