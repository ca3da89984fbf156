import { ask } from "./ask";
import type { components } from "./schema";

type Schemas = components["schemas"];

export type Weighing = Schemas["Weighing"];
export type Reputation = Schemas["Reputation"];
export type Exception = Schemas["Standing"];
export type ExceptionOrder = Schemas["ExceptionRequest"];

/** What is known and said of strangers. */
export const strangers = {
	weighing: () => ask<Weighing>("GET", "reputation"),
	of: (about: string) => ask<Reputation>("GET", `reputation/${encodeURIComponent(about)}`),
	except: (order: ExceptionOrder) => ask<Schemas["Done"]>("POST", "reputation/exceptions", order),
	forget: (order: ExceptionOrder) => ask<Schemas["Done"]>("POST", "reputation/forget", order),
};
