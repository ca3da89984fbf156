import { type CSSVariablesResolver, createTheme, type MantineColorsTuple } from "@mantine/core";

/** Deep sea green: what moves and what can be pressed. */
const kelp: MantineColorsTuple = [
	"#e6f5f4",
	"#cfe9e7",
	"#a1d3d0",
	"#70bcb8",
	"#49a8a3",
	"#2f9994",
	"#1c7f7b",
	"#126a67",
	"#0d5755",
	"#084543",
];

/** Brass of a lamp: what waits. */
const brass: MantineColorsTuple = [
	"#fdf4e0",
	"#f8e6bf",
	"#f0cd85",
	"#e8b34a",
	"#dd9c22",
	"#c0830f",
	"#9c690a",
	"#7c5206",
	"#5e3e05",
	"#422b02",
];

/** Red of a buoy: what needs a person. */
const buoy: MantineColorsTuple = [
	"#fdebe7",
	"#f8d3ca",
	"#f0a695",
	"#e8775d",
	"#df5134",
	"#c93a1c",
	"#ab2e14",
	"#89240f",
	"#661a0a",
	"#451105",
];

export const theme = createTheme({
	colors: { kelp, brass, buoy },
	primaryColor: "kelp",
	primaryShade: 7,
	autoContrast: true,
	fontFamily: "'Inter', 'Segoe UI', system-ui, 'DejaVu Sans', sans-serif",
	fontFamilyMonospace: "ui-monospace, 'Cascadia Mono', 'DejaVu Sans Mono', monospace",
	fontSizes: { xs: "0.75rem", sm: "0.8125rem", md: "0.875rem", lg: "1rem", xl: "1.25rem" },
	defaultRadius: "sm",
	cursorType: "pointer",
	focusRing: "auto",
	respectReducedMotion: true,
	// A dialog's head is none of the page.
	components: {
		DrawerHeader: { defaultProps: { role: "presentation" } },
		ModalHeader: { defaultProps: { role: "presentation" } },
	},
});

/** The page's own tokens; see docs/console.md. */
export const colours: CSSVariablesResolver = () => ({
	variables: {},
	light: {
		"--mantine-color-body": "#f5f7f5",
		"--mantine-color-text": "#17282b",
		"--mantine-color-dimmed": "#566a6d",
		"--gull-surface": "#ffffff",
		"--gull-line": "#d6dedb",
		"--gull-deep": "#12393f",
		"--gull-on-deep": "#eef5f2",
		"--gull-moves": "#126a67",
		"--gull-waits": "#7c5206",
		"--gull-trouble": "#ab2e14",
		"--gull-trouble-wash": "#fdebe7",
		"--gull-waits-wash": "#fdf4e0",
		"--gull-moves-wash": "#e6f5f4",
	},
	dark: {
		"--mantine-color-body": "#0e1a1d",
		"--mantine-color-text": "#e1ebe8",
		"--mantine-color-dimmed": "#93a8a9",
		"--gull-surface": "#14252a",
		"--gull-line": "#2a4046",
		"--gull-deep": "#0a1315",
		"--gull-on-deep": "#dfeae7",
		"--gull-moves": "#70bcb8",
		"--gull-waits": "#e8b34a",
		"--gull-trouble": "#f0937d",
		"--gull-trouble-wash": "#3a1a14",
		"--gull-waits-wash": "#33270d",
		"--gull-moves-wash": "#12302f",
	},
});
