import { i18n, type Messages } from "@lingui/core";
import { parts } from "./language-parts";

/** The files of the languages beside English, whose texts stand in the code. */
const files = import.meta.glob<{ messages: Messages }>(["../locales/*.po", "!../locales/en.po"]);

const nameOf = (file: string) => file.replace(/^.*\/(.*)\.po$/, "$1");

/** The languages that can be chosen: another one is a file more. */
export const languages = ["en", ...Object.keys(files).map(nameOf)];

/** A language as its speakers call it. */
export const called = (language: string) =>
	new Intl.DisplayNames([language], { type: "language" }).of(language) ?? language;

/** The language that is spoken where another is wanted: English, if it has no file. */
export const spoken = (language: string) => (languages.includes(language) ? language : "en");

/** Speaks a language: all texts of what is loaded after it are in it. */
export async function speak(language: string) {
	i18n.setMessagesCompiler(parts);
	const file = files[`../locales/${language}.po`];
	let messages: Messages = {};
	try {
		messages = file ? (await file()).messages : {};
	} catch {
		// The file cannot be had now: English is better than nothing.
	}
	i18n.loadAndActivate({ locale: file ? language : "en", messages });
	document.documentElement.lang = i18n.locale;
}
