type Parts = (string | [string])[];

const known = new Map<string, Parts>();

/**
 * The parts of an English text: what stands between braces is put in. The other languages
 * are taken apart when the console is built, with all that the format has; English texts
 * have nothing but names in braces, which spares every visitor the parser.
 */
export function parts(text: string): Parts {
	let out = known.get(text);
	if (!out) {
		out = text
			.split(/\{(\w+)\}/)
			.map((part, i): string | [string] => (i % 2 === 1 ? [part] : part))
			.filter((part) => part !== "");
		known.set(text, out);
	}
	return out;
}
