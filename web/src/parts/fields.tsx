import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import {
	Checkbox,
	Collapse,
	Fieldset,
	PasswordInput,
	Select,
	Stack,
	TagsInput,
	Text,
	Textarea,
	TextInput,
	UnstyledButton,
} from "@mantine/core";
import { IconChevronDown, IconChevronRight } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Field, type Fields, setup } from "../api/setup";
import { To } from "./to";

/** title writes a field's name for people. */
export function title(name: string): string {
	const text = name
		.replaceAll("_", " ")
		.replace(/\b(tls|mx|ehlo|utf8)\b/g, (w) => w.toUpperCase().replace("UTF8", "UTF-8"));
	return (text[0] ?? "").toUpperCase() + text.slice(1);
}

/** So many items of a list are written out. */
const maxItems = 30;

/** words writes a field's value for people. */
export function words(v: unknown): string {
	if (v === undefined || v === null || v === "") {
		return "";
	}
	if (v === true) {
		return "yes";
	}
	if (Array.isArray(v)) {
		const all = v.slice(0, maxItems).map(words).join(", ");
		return v.length > maxItems ? `${all}, … (${v.length})` : all;
	}
	if (typeof v === "object") {
		return Object.entries(v)
			.map(([k, x]) => {
				const inner = x !== null && typeof x === "object" && !Array.isArray(x); // it stays together
				return `${k.replaceAll("_", " ")} ${inner ? `(${words(x)})` : words(x)}`;
			})
			.join(", ");
	}
	return String(v);
}

const long = ["inside", "outside", "add_text"];

type FormProps = {
	fields: Field[];
	values: Fields;
	faults: Record<string, string>;
	onChange: (values: Fields) => void;
	path?: string;
	/** Fields that stand on top; the others fold away until one is used. */
	first?: string[];
	/** The whole may be left out: then none of its fields is required. */
	optional?: boolean;
};

/**
 * FieldsForm is a form made from what the service says of its fields; faults are
 * the service's own words, by field.
 */
export function FieldsForm({ fields, values, faults, onChange, path = "", first, optional }: FormProps) {
	const used = fields.some((f) => first && !first.includes(f.name) && values[f.name] !== undefined);
	const [open, setOpen] = useState(used);
	const one = (f: Field) => (
		<FieldInput
			key={f.name}
			field={optional && Object.keys(values).length === 0 ? { ...f, required: false } : f}
			value={values[f.name]}
			faults={faults}
			path={path + f.name}
			onChange={(v) => {
				const next = { ...values };
				if (v === undefined || v === "" || v === false || (Array.isArray(v) && v.length === 0)) {
					delete next[f.name];
				} else {
					next[f.name] = v;
				}
				onChange(next);
			}}
		/>
	);
	if (!first) {
		return <Stack gap="xs">{fields.map(one)}</Stack>;
	}
	const rest = fields.filter((f) => !first.includes(f.name));
	const hidden = rest.some((f) => Object.keys(faults).some((k) => k.startsWith(path + f.name)));
	return (
		<Stack gap="xs">
			{first.map((n) => fields.find((f) => f.name === n)).map((f) => f && one(f))}
			{rest.length > 0 && (
				<>
					<UnstyledButton onClick={() => setOpen(!open)} aria-expanded={open || hidden} fz="sm" fw={600} c="kelp">
						{open || hidden ? <IconChevronDown size={14} /> : <IconChevronRight size={14} />}{" "}
						<Trans>More settings ({rest.length})</Trans>
					</UnstyledButton>
					<Collapse expanded={open || hidden}>
						<Stack gap="xs">{rest.map(one)}</Stack>
					</Collapse>
				</>
			)}
		</Stack>
	);
}

/** So many fields of a record are shown at once; of more, those that are used, and a choice. */
const maxFields = 12;

/** Inner is the form of a record within another. */
function Inner(props: FormProps) {
	const { fields, values, faults, path = "" } = props;
	const [chosen, setChosen] = useState<string[]>([]);
	if (fields.length <= maxFields) {
		return <FieldsForm {...props} />;
	}
	const wrong = (f: Field) => Object.keys(faults).some((k) => k.startsWith(path + f.name));
	const seen = (f: Field) => values[f.name] !== undefined || chosen.includes(f.name) || wrong(f);
	return (
		<Stack gap="xs">
			<FieldsForm {...props} fields={fields.filter(seen)} />
			<Select
				size="xs"
				aria-label={t`Add a field`}
				placeholder={t`Add a field`}
				searchable
				value={null}
				data={fields.filter((f) => !seen(f)).map((f) => ({ value: f.name, label: title(f.name) }))}
				onChange={(v) => v && setChosen([...chosen, v])}
			/>
		</Stack>
	);
}

type InputProps = {
	field: Field;
	value: unknown;
	faults: Record<string, string>;
	path: string;
	onChange: (v: unknown) => void;
};

const examples: Record<string, string> = {
	network: "127.20.1.0/24",
	address: "keeper@skerryline.example",
	address_port: "127.0.0.1:2525",
	domain: "skerryline.example",
	duration: "15m",
	size: "25 MB",
	pattern: "saltmarsh.example",
	day: "2026-12-01",
	ip: "127.0.0.1",
};

function FieldInput({ field, value, faults, path, onChange }: InputProps) {
	const fault = faultOf(faults, path, field.type === "list");
	const common = {
		label: title(field.name),
		description: field.doc,
		error: fault,
		withAsterisk: field.required,
		size: "xs" as const,
	};
	const placeholder = field.default ? t`${field.default} if left empty` : (examples[field.form ?? ""] ?? "");
	if (field.type === "record") {
		return (
			<Fieldset legend={title(field.name)} p="sm">
				{field.doc && (
					<Text size="xs" c="dimmed" mb={4}>
						{field.doc}
					</Text>
				)}
				<Inner
					optional={!field.required}
					fields={field.fields ?? []}
					values={(value as Fields) ?? {}}
					faults={faults}
					path={`${path}.`}
					onChange={(v) => onChange(Object.keys(v).length > 0 ? v : undefined)}
				/>
			</Fieldset>
		);
	}
	if (field.type === "records") {
		return null;
	}
	if (field.type === "yes_no") {
		return <Checkbox {...common} checked={value === true} onChange={(e) => onChange(e.currentTarget.checked)} />;
	}
	if (field.type === "list") {
		return (
			<TagsInput
				{...common}
				value={((value as unknown[]) ?? []).map(String)}
				onChange={onChange}
				data={field.allowed ?? []}
				placeholder={placeholder}
				acceptValueOnBlur
				splitChars={field.whole ? [] : [",", " "].slice(0, field.form ? 2 : 1)}
			/>
		);
	}
	if (field.name === "secret") {
		return <SecretChoice {...common} value={(value as string) ?? ""} onChange={onChange} />;
	}
	if (field.allowed) {
		return (
			<Select
				{...common}
				data={field.allowed}
				value={(value as string) ?? null}
				onChange={(v) => onChange(v ?? undefined)}
				placeholder={placeholder}
				clearable={!field.required}
			/>
		);
	}
	if (field.name === "password") {
		return (
			<PasswordInput
				{...common}
				value={String(value ?? "")}
				onChange={(e) => onChange(e.currentTarget.value)}
				autoComplete="new-password"
			/>
		);
	}
	if (long.includes(field.name)) {
		return (
			<Textarea
				{...common}
				autosize
				minRows={2}
				value={String(value ?? "")}
				onChange={(e) => onChange(e.currentTarget.value)}
			/>
		);
	}
	return (
		<TextInput
			{...common}
			value={String(value ?? "")}
			placeholder={placeholder}
			inputMode={field.type === "number" ? "numeric" : undefined}
			onChange={(e) => {
				const text = e.currentTarget.value;
				onChange(field.type === "number" && /^\d+$/.test(text) ? Number(text) : text);
			}}
		/>
	);
}

/** SecretChoice is one of the passwords that are kept, with the way to keep another. */
function SecretChoice(p: {
	label: string;
	error?: string;
	withAsterisk?: boolean;
	value: string;
	onChange: (v: unknown) => void;
}) {
	const list = useQuery({ queryKey: ["secrets"], queryFn: setup.secrets });
	const names = (list.data?.items ?? []).map((s) => s.name);
	return (
		<Select
			size="xs"
			label={p.label}
			error={p.error}
			withAsterisk={p.withAsterisk}
			description={
				<Trans>
					A password that is kept.{" "}
					<To to="/setup/secrets" size="xs" underline="always">
						<Trans>Keep another</Trans>
					</To>
				</Trans>
			}
			inputWrapperOrder={["label", "input", "description", "error"]}
			data={p.value && !names.includes(p.value) ? [...names, p.value] : names}
			value={p.value || null}
			onChange={(v) => p.onChange(v ?? undefined)}
			placeholder={names.length === 0 ? t`none is kept yet` : t`choose one`}
			clearable
		/>
	);
}

/** A fault of a list is told of the item that has it. */
function faultOf(faults: Record<string, string>, path: string, list: boolean): string | undefined {
	if (faults[path]) {
		return faults[path];
	}
	const inner = list ? Object.keys(faults).filter((k) => k.startsWith(`${path}[`)) : [];
	return inner.length > 0 ? inner.map((k) => faults[k]).join("; ") : undefined;
}
