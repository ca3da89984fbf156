import "@mantine/core/styles/baseline.layer.css";
import "@mantine/core/styles/default-css-variables.layer.css";
import "@mantine/core/styles/global.layer.css";
import "@mantine/core/styles/UnstyledButton.layer.css";
import "@mantine/core/styles/ActionIcon.layer.css";
import "@mantine/core/styles/Alert.layer.css";
import "@mantine/core/styles/Button.layer.css";
import "@mantine/core/styles/Center.layer.css";
import "@mantine/core/styles/Input.layer.css";
import "@mantine/core/styles/Loader.layer.css";
import "@mantine/core/styles/PasswordInput.layer.css";
import "@mantine/core/styles/Stack.layer.css";
import "@mantine/core/styles/Text.layer.css";
import "@mantine/core/styles/Title.layer.css";
import "./app/base.css";
import { i18n } from "@lingui/core";
import { I18nProvider } from "@lingui/react";
import { MantineProvider } from "@mantine/core";
import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { chosen } from "./api/choices";
import { speak } from "./api/language";
import { queries } from "./api/queries";
import { Gate } from "./app/gate";
import { colours, theme } from "./app/theme";

const root = document.getElementById("root");

/** The console is drawn when its texts are there. */
void speak(chosen().language).then(() => {
	if (root) {
		createRoot(root).render(
			<StrictMode>
				<I18nProvider i18n={i18n}>
					<MantineProvider theme={theme} cssVariablesResolver={colours} defaultColorScheme="auto">
						<QueryClientProvider client={queries}>
							<Gate />
						</QueryClientProvider>
					</MantineProvider>
				</I18nProvider>
			</StrictMode>,
		);
	}
});
