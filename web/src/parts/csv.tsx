import { UnstyledButton } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useState } from "react";
import { zone } from "../api/choices";
import { send } from "../api/setup";
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
			const q = new URLSearchParams({ zone: zone() });
			for (const [k, v] of Object.entries(words)) {
				if (v !== undefined && v !== "") {
					q.set(k, String(v));
				}
			}
			const response = await send("GET", `${path}?${q}`);
			const reader = response.body?.pipeThrough(new TextDecoderStream()).getReader();
			const pieces: string[] = [];
			let lines = 0;
			for (;;) {
				const piece = await reader?.read();
				if (!piece || piece.done) {
					break;
				}
				pieces.push(piece.value);
				lines += piece.value.split("\r\n").length - 1;
				setRows(Math.max(lines - 1, 0));
			}
			download(file, pieces.join(""));
			notifications.show({ message: `${plural(Math.max(lines - 1, 0), "row", "rows")} in ${file}: all that match.` });
		} catch (e) {
			notifications.show({ color: "buoy", title: "No file was made", message: (e as Error).message });
		}
		setRows(null);
	};
	return (
		<UnstyledButton fz="xs" td="underline" onClick={() => void get()} disabled={rows !== null}>
			{rows === null ? label : `${count(rows)} rows …`}
		</UnstyledButton>
	);
}
