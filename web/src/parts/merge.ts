import type { Fields } from "../api/setup";

/** One field that two people changed, each in another way. */
export type Clash = { field: string; base: unknown; mine: unknown; theirs: unknown };

const same = (a: unknown, b: unknown) => JSON.stringify(a ?? null) === JSON.stringify(b ?? null);

/** The names of the fields in which two states differ. */
export function differing(a: Fields, b: Fields): string[] {
	return [...new Set([...Object.keys(a), ...Object.keys(b)])].filter((k) => !same(a[k], b[k]));
}

/**
 * merge brings together what I changed and what somebody else did meanwhile, both since
 * base: what only one of us changed counts; what both changed differently is a clash, in
 * which theirs stands until I choose.
 */
export function merge(base: Fields, mine: Fields, theirs: Fields): { merged: Fields; clashes: Clash[] } {
	const merged: Fields = { ...theirs };
	const clashes: Clash[] = [];
	for (const field of differing(base, mine)) {
		if (same(base[field], theirs[field])) {
			put(merged, field, mine[field]);
		} else if (!same(mine[field], theirs[field])) {
			clashes.push({ field, base: base[field], mine: mine[field], theirs: theirs[field] });
		}
	}
	return { merged, clashes };
}

/** put writes a field; nothing takes it out. */
export function put(fields: Fields, field: string, value: unknown) {
	if (value === undefined || value === null) {
		delete fields[field];
	} else {
		fields[field] = value;
	}
}
