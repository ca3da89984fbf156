import { type At, ask } from "./ask";
import type { Page } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];

export type Passkey = Schemas["Passkey"];
export type PasskeyMade = Schemas["PasskeyMade"];
export type SignInWays = Schemas["SignInWays"];

/** Whether this browser knows passkeys, here: they belong to a host name under TLS, or to localhost. */
export const passkeysWork = () =>
	window.isSecureContext &&
	typeof window.PublicKeyCredential?.parseRequestOptionsFromJSON === "function" &&
	!/^[\d.]+$|^\[/.test(window.location.hostname);

/** The browser says only that nothing came of it: somebody turned away, or has none. */
async function asked<T>(f: () => Promise<T | null>): Promise<T> {
	const given = await f().catch((e: Error) => {
		throw e.name === "NotAllowedError" ? new Turned() : e;
	});
	if (!given) {
		throw new Turned();
	}
	return given;
}

/** Turned is thrown when no passkey was chosen: the page asked, and nobody wanted. */
export class Turned extends Error {}

/** What is said and asked about passkeys, by the browser's own words for them (WebAuthn level 3). */
export const passkeys = {
	ways: () => ask<SignInWays>("GET", "sign-in"),
	list: () => ask<Page<Passkey>>("GET", "me/passkeys"),
	remove: (id: string, password: string) =>
		ask<void>("POST", `me/passkeys/${encodeURIComponent(id)}/remove` as At<"post">, { password }),
	signIn: async () => {
		const { options, ceremony } = await ask<Schemas["PasskeyAsked"]>("POST", "sign-in/passkey");
		const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options as PublicKeyCredentialRequestOptionsJSON);
		const key = await asked(() => navigator.credentials.get({ publicKey }));
		return ask<Schemas["SignedIn"]>("POST", "sign-in/passkey/answer", {
			ceremony,
			answer: (key as PublicKeyCredential).toJSON(),
		});
	},
	add: async (name: string, password: string) => {
		const { options, ceremony } = await ask<Schemas["PasskeyAsked"]>("POST", "me/passkeys/ask", { password });
		const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(
			options as PublicKeyCredentialCreationOptionsJSON,
		);
		const key = await asked(() => navigator.credentials.create({ publicKey }));
		return ask<PasskeyMade>("POST", "me/passkeys", {
			ceremony,
			name,
			answer: (key as PublicKeyCredential).toJSON(),
		});
	},
};
