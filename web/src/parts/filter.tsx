import { TextInput } from "@mantine/core";
import { useEffect, useRef, useState } from "react";

/** How long after the last key a filter is taken, in milliseconds. */
const settle = 300;

/**
 * FilterText is one word of a filter; an empty one is no filter. It has a delay of its
 * own, and shows what is in force: after Back and from a link too.
 */
export function FilterText({
	label,
	value,
	onChange,
	w = 138,
	icon,
}: {
	label: string;
	value?: string;
	onChange: (value: string | undefined) => void;
	w?: number;
	icon?: React.ReactNode;
}) {
	const [text, setText] = useState(value ?? "");
	const timer = useRef<number | undefined>(undefined);
	const told = useRef(value ?? "");
	useEffect(() => {
		if ((value ?? "") !== told.current) {
			told.current = value ?? "";
			window.clearTimeout(timer.current);
			setText(value ?? "");
		}
	}, [value]);
	useEffect(() => () => window.clearTimeout(timer.current), []);
	const latest = useRef(onChange);
	latest.current = onChange;
	const tell = (v: string) => {
		window.clearTimeout(timer.current);
		told.current = v.trim();
		latest.current(v.trim() || undefined);
	};
	return (
		<TextInput
			size="xs"
			w={w}
			aria-label={label}
			placeholder={label}
			leftSection={icon}
			value={text}
			onChange={(e) => {
				const v = e.currentTarget.value;
				setText(v);
				window.clearTimeout(timer.current);
				timer.current = window.setTimeout(() => tell(v), settle);
			}}
			onKeyDown={(e) => e.key === "Enter" && tell(text)}
		/>
	);
}
