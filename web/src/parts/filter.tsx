import { TextInput } from "@mantine/core";

/** FilterText is one word of a filter; an empty one is no filter. */
export function FilterText({
	label,
	value,
	onChange,
}: {
	label: string;
	value?: string;
	onChange: (value: string | undefined) => void;
}) {
	return (
		<TextInput
			size="xs"
			w={138}
			aria-label={label}
			placeholder={label}
			defaultValue={value}
			onChange={(e) => onChange(e.currentTarget.value || undefined)}
		/>
	);
}
