import { i18n } from "@lingui/core";
import { parts } from "./api/language-parts";

// Tests read English.
i18n.setMessagesCompiler(parts);
i18n.loadAndActivate({ locale: "en", messages: {} });
