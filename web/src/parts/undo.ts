/** The way back of what was done last, while its notice stands. */
let back: (() => void) | undefined;

/** Says how what was done last is taken back; nothing when that is over. */
export function setUndo(f: (() => void) | undefined) {
	back = f;
}

/** undoLast takes back what was done last, as the button in its notice does. */
export const undoLast = () => back?.();
