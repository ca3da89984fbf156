import { ask } from "./ask";
import type { NewAppPassword } from "./boxes";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type OwnMailbox = Schemas["OwnMailbox"];
export type OwnChange = Schemas["OwnChange"];

/** What people do with their own mailboxes. */
export const own = {
	signIn: (address: string, password: string) => ask<void>("POST", "own/sign-in", { address, password }),
	signOut: () => ask<void>("POST", "own/sign-out"),
	mailbox: () => ask<OwnMailbox>("GET", "own"),
	change: (c: OwnChange) => ask<void>("PATCH", "own", c),
	password: (old: string, chosen: string) =>
		ask<void>("POST", "own/password", { old_password: old, new_password: chosen }),
	addApp: (name: string) => ask<NewAppPassword>("POST", "own/app-passwords", { name }),
	revokeApp: (name: string) => ask<void>("DELETE", `own/app-passwords/${encodeURIComponent(name)}`),
};
