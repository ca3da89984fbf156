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
import { MantineProvider } from "@mantine/core";
import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { queries } from "./api/queries";
import { Gate } from "./app/gate";
import { colours, theme } from "./app/theme";

// An old tab after an upgrade asks for pieces that are no more: it reads itself again,
// once, and gets the new ones.
window.addEventListener("vite:preloadError", (e) => {
	const last = Number(sessionStorage.getItem("read-again") ?? 0);
	if (Date.now() - last > 60_000) {
		e.preventDefault();
		sessionStorage.setItem("read-again", String(Date.now()));
		window.location.reload();
	}
});

const root = document.getElementById("root");
if (root) {
	createRoot(root).render(
		<StrictMode>
			<MantineProvider theme={theme} cssVariablesResolver={colours} defaultColorScheme="auto">
				<QueryClientProvider client={queries}>
					<Gate />
				</QueryClientProvider>
			</MantineProvider>
		</StrictMode>,
	);
}
