// Light and dark, and the same values handed to Naive UI.
import type { GlobalThemeOverrides } from "naive-ui";
import { darkTheme } from "naive-ui/es/themes/dark";
import { computed, ref, watchEffect } from "vue";

type Theme = "light" | "dark";
const KEPT = "jamb-theme";
const system = window.matchMedia("(prefers-color-scheme: dark)");
const chosen = ref<Theme | null>(localStorage.getItem(KEPT) as Theme | null);
const systemDark = ref(system.matches);
system.addEventListener("change", (event) => (systemDark.value = event.matches));

export const theme = computed<Theme>(() => chosen.value ?? (systemDark.value ? "dark" : "light"));

export function toggleTheme(): void {
  chosen.value = theme.value === "dark" ? "light" : "dark";
  localStorage.setItem(KEPT, chosen.value);
}

watchEffect(() => (document.documentElement.dataset.theme = theme.value));

const shared = {
  fontFamily: '"Hanken Grotesk Variable", system-ui, sans-serif',
  fontFamilyMono: '"JetBrains Mono Variable", ui-monospace, monospace',
  borderRadius: "3px",
  borderRadiusSmall: "3px",
  fontSize: "14px",
};

const light: GlobalThemeOverrides = {
  common: {
    ...shared,
    primaryColor: "#1d5b73",
    primaryColorHover: "#26708d",
    primaryColorPressed: "#164a5e",
    primaryColorSuppl: "#26708d",
    errorColor: "#a2321b",
    errorColorHover: "#b63c22",
    errorColorPressed: "#8a2a16",
    textColorBase: "#1b2427",
    textColor1: "#1b2427",
    textColor2: "#1b2427",
    textColor3: "#4c585c",
    placeholderColor: "#5f6a6d",
    borderColor: "#8b8475",
    inputColor: "#fcfbf7",
    bodyColor: "#f3f0e8",
    cardColor: "#fcfbf7",
    popoverColor: "#fcfbf7",
    dividerColor: "#d9d2c2",
  },
  Skeleton: { color: "#e8e2d4", colorEnd: "#ddd6c6" },
};
const dark: GlobalThemeOverrides = {
  common: {
    ...shared,
    primaryColor: "#86bccd",
    primaryColorHover: "#9bcbd9",
    primaryColorPressed: "#6fa9bc",
    primaryColorSuppl: "#9bcbd9",
    errorColor: "#f0937b",
    errorColorHover: "#f4a590",
    errorColorPressed: "#e37f65",
    textColorBase: "#e4e6e2",
    textColor1: "#e4e6e2",
    textColor2: "#e4e6e2",
    textColor3: "#a9b5b9",
    placeholderColor: "#a9b5b9",
    borderColor: "#6b7b82",
    inputColor: "#172025",
    bodyColor: "#10171b",
    cardColor: "#172025",
    popoverColor: "#1d282e",
    dividerColor: "#2b3940",
  },
  Skeleton: { color: "#1d282e", colorEnd: "#2b3940" },
};

export const naiveTheme = computed(() => (theme.value === "dark" ? darkTheme : null));
export const naiveOverrides = computed(() => (theme.value === "dark" ? dark : light));
