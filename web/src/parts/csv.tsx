import { t } from "@lingui/core/macro";
import { UnstyledButton } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useState } from "react";
import { query, send } from "../api/ask";
import { zone } from "../api/choices";
import { download } from "./table-file";
import { count, plural } from "./text";

type Words = Record<string, string | number | boolean | string[] | undefined>;

/**
 * CSV gets all rows that match, with all columns, from the service: what is on the screen
 * is a part of both. It says how many there are.
 */
export function CSV({
	path,
	words,
	file,
	label = "CSV",
}: {
	path: string;
	words: Words;
	file: string;
	label?: string;
}) {
	const [rows, setRows] = useState<number | null>(null);
	const get = async () => {
		setRows(0);
		try {
			const response = await send("GET", `${path}${query({ ...words, zone: zone() })}`);
			const reader = response.body?.pipeThrough(new TextDecoderStream()).getReader();
			const pieces: string[] = [];
			let lines = label === "CSV" ? -1 : 0; // a line of names stands before the rows
			for (;;) {
				const piece = await reader?.read();
				if (!piece || piece.done) {
					break;
				}
				pieces.push(piece.value);
				lines += piece.value.split("\n").length - 1;
				setRows(Math.max(lines, 0));
			}
			const text = pieces.join("");
			const fault = /this file is not whole: [^\r\n]*/.exec(text.slice(-2000))?.[0];
			if (fault) {
				throw new Error(fault);
			}
			download(file, text);
			notifications.show({ message: t`${plural(Math.max(lines, 0), t`row`, t`rows`)} in ${file}: all that match.` });
		} catch (e) {
			notifications.show({ color: "buoy", title: t`No file was made`, message: (e as Error).message });
		}
		setRows(null);
	};
	return (
		<UnstyledButton fz="xs" td="underline" onClick={() => void get()} disabled={rows !== null}>
			{rows === null ? label : t`${count(rows)} rows …`}
		</UnstyledButton>
	);
}
