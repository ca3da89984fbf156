import { ask, query } from "./ask";
import type { Page } from "./client";
import type { components } from "./schema";

const seg = encodeURIComponent;

type Schemas = components["schemas"];
export type BoxFolder = Schemas["Folder"];
export type BoxItem = Schemas["MailboxItem"];
export type ContentView = Schemas["ContentView"];
export type AppPassword = Schemas["AppPassword"];
export type NewAppPassword = Schemas["NewAppPassword"];

/** What lies in a mailbox, and the passwords of its programs. */
export const boxes = {
	folders: (address: string) => ask<Page<BoxFolder>>("GET", `mailboxes/${seg(address)}/folders`),
	messages: (address: string, words: { folder?: string; after?: string; limit: number }) =>
		ask<Page<BoxItem>>("GET", `mailboxes/${seg(address)}/messages${query(words)}`),
	view: (address: string, id: string, why: string) =>
		ask<ContentView>("GET", `mailboxes/${seg(address)}/messages/${seg(id)}/view${query({ why })}`),
	apps: (address: string) => ask<Page<AppPassword>>("GET", `mailboxes/${seg(address)}/app-passwords`),
	addApp: (address: string, name: string) =>
		ask<NewAppPassword>("POST", `mailboxes/${seg(address)}/app-passwords`, { name }),
	revokeApp: (address: string, name: string) =>
		ask<void>("DELETE", `mailboxes/${seg(address)}/app-passwords/${seg(name)}`),
};
