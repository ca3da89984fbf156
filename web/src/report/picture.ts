import { save } from "../parts/table-file";

/** What a drawing takes from the page's styles: a file has none. */
const drawn = [
	"fill",
	"fill-opacity",
	"stroke",
	"stroke-width",
	"stroke-dasharray",
	"stroke-opacity",
	"opacity",
	"font-family",
	"font-size",
	"font-weight",
	"text-anchor",
	"dominant-baseline",
];

/** What stands beside a drawing in its file. */
export type Caption = { title: string; lines: string[] };

const head = 26;
const line = 18;

/** The drawing in a part of the page as an SVG that stands alone, with a title and what its colours are. */
function svgOf(box: HTMLElement, caption: Caption): { text: string; width: number; height: number } | undefined {
	const found = box.querySelector<SVGSVGElement>("svg[data-drawing], svg.recharts-surface");
	if (!found) {
		return undefined;
	}
	const { width, height } = found.getBoundingClientRect();
	const copy = found.cloneNode(true) as SVGSVGElement;
	const from = [...found.querySelectorAll<SVGElement>("*")];
	for (const [i, to] of [...copy.querySelectorAll<SVGElement>("*")].entries()) {
		const style = from[i] && getComputedStyle(from[i]);
		for (const name of style ? drawn : []) {
			const value = style?.getPropertyValue(name);
			if (value) {
				to.setAttribute(name, value);
			}
		}
		to.removeAttribute("class");
		to.removeAttribute("style");
	}
	for (const hand of copy.querySelectorAll("[data-hand], .recharts-brush")) {
		hand.remove();
	}
	const page = getComputedStyle(box);
	const top = head + caption.lines.length * line + 8;
	const ns = "http://www.w3.org/2000/svg";
	const out = document.createElementNS(ns, "svg");
	const put = (name: string, words: Record<string, string | number>, text = "") => {
		const e = document.createElementNS(ns, name);
		for (const [k, v] of Object.entries(words)) {
			e.setAttribute(k, String(v));
		}
		e.textContent = text;
		out.append(e);
	};
	out.setAttribute("xmlns", ns);
	out.setAttribute("viewBox", `0 0 ${width} ${height + top}`);
	out.setAttribute("width", String(width));
	out.setAttribute("height", String(height + top));
	put("title", {}, caption.title);
	put("rect", { width: "100%", height: "100%", fill: page.backgroundColor });
	const words = { x: 10, fill: page.color, "font-family": page.fontFamily };
	put("text", { ...words, y: 20, "font-size": 15, "font-weight": 650 }, caption.title);
	for (const [i, text] of caption.lines.entries()) {
		put("text", { ...words, y: head + 13 + i * line, "font-size": 12 }, text);
	}
	copy.setAttribute("y", String(top));
	copy.setAttribute("width", String(width));
	copy.setAttribute("height", String(height));
	copy.removeAttribute("class");
	copy.removeAttribute("style");
	out.append(copy);
	return { text: new XMLSerializer().serializeToString(out), width, height: height + top };
}

/** Saves a drawing as SVG. */
export function saveSVG(box: HTMLElement, caption: Caption, name: string) {
	const svg = svgOf(box, caption);
	if (svg) {
		save(`${name}.svg`, new Blob([svg.text], { type: "image/svg+xml" }));
	}
}

/** Saves a drawing as PNG, twice as fine as it is on the screen. */
export async function savePNG(box: HTMLElement, caption: Caption, name: string) {
	const svg = svgOf(box, caption);
	if (!svg) {
		return;
	}
	const image = new Image();
	image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg.text)}`;
	await image.decode();
	const canvas = document.createElement("canvas");
	canvas.width = svg.width * 2;
	canvas.height = svg.height * 2;
	const pen = canvas.getContext("2d");
	pen?.scale(2, 2);
	pen?.drawImage(image, 0, 0, svg.width, svg.height);
	const blob = await new Promise<Blob | null>((done) => canvas.toBlob(done, "image/png"));
	if (blob) {
		save(`${name}.png`, blob);
	}
}
