import { createSystem, defaultConfig, defineConfig } from "@chakra-ui/react";

import { MARKS } from "./model/verdicts";
import { markImage } from "./parts/VerdictMark";

/** Our own tokens over the component library; the values are the variables of theme.css, so dark mode is one class. */
const ours = defineConfig({
  globalCss: { "html, body": { bg: "paper", color: "ink" } },
  theme: {
    tokens: {
      fonts: {
        heading: { value: "'IBM Plex Sans', system-ui, sans-serif" },
        body: { value: "'IBM Plex Sans', system-ui, sans-serif" },
        mono: { value: "'IBM Plex Mono', ui-monospace, monospace" },
      },
      radii: { l1: { value: "3px" }, l2: { value: "4px" }, l3: { value: "6px" } },
    },
    semanticTokens: {
      colors: {
        paper: { value: "var(--paper)" },
        sheet: { value: "var(--sheet)" },
        shade: { value: "var(--shade)" },
        line: { value: "var(--line)" },
        ink: { DEFAULT: { value: "var(--ink)" }, muted: { value: "var(--ink-2)" }, faint: { value: "var(--ink-3)" } },
        gray: {
          solid: { value: "var(--ink)" },
          contrast: { value: "var(--paper)" },
          fg: { value: "var(--ink)" },
          muted: { value: "var(--line)" },
          subtle: { value: "var(--shade)" },
          emphasized: { value: "var(--line-strong)" },
          focusRing: { value: "var(--focus)" },
        },
        copper: {
          solid: { value: "var(--copper)" },
          contrast: { value: "var(--copper-ink)" },
          fg: { value: "var(--copper)" },
          muted: { value: "var(--copper-soft)" },
          subtle: { value: "var(--copper-soft)" },
          emphasized: { value: "var(--copper-soft)" },
          focusRing: { value: "var(--focus)" },
        },
        bg: {
          DEFAULT: { value: "var(--sheet)" },
          panel: { value: "var(--sheet)" },
          subtle: { value: "var(--shade)" },
          muted: { value: "var(--shade)" },
        },
        fg: { DEFAULT: { value: "var(--ink)" }, muted: { value: "var(--ink-2)" }, subtle: { value: "var(--ink-3)" } },
        border: { DEFAULT: { value: "var(--line)" } },
      },
    },
  },
});

/**
 * The library sets some thirty variables on every element, and how selected text looks: most of the time that it takes
 * to style one. Said of the root they reach all just so.
 */
const { "*": everywhere, "*::selection": chosen, html, ...others } = defaultConfig.globalCss!;

/** The library's colours that are seen here: with all of them a page comes a twentieth of a second later. */
const COLORS = new Set(["transparent", "current", "black", "white", "whiteAlpha", "blackAlpha", "gray", "red"]);
const SAID = new Set(["bg", "fg", "border", "gray", "red"]);
const only = <T extends object>(colors: T, kept: ReadonlySet<string>): T =>
  Object.fromEntries(Object.entries(colors).filter(([name]) => kept.has(name))) as T;
const { tokens, semanticTokens } = defaultConfig.theme!;
const base = {
  ...defaultConfig,
  globalCss: { ...others, html: { ...html, ...everywhere }, "html::selection": chosen! },
  theme: {
    ...defaultConfig.theme,
    tokens: { ...tokens, colors: only(tokens!.colors!, COLORS) },
    semanticTokens: { ...semanticTokens, colors: only(semanticTokens!.colors!, SAID) },
  },
};

export const system = createSystem(base, ours);

const KEY = "aptwire-dark";

/** Whether dark mode is on: as chosen before, or else as the machine prefers. */
export function isDark(): boolean {
  const chosen = localStorage.getItem(KEY);
  return chosen === null ? matchMedia("(prefers-color-scheme: dark)").matches : chosen === "yes";
}

/** Put the mode on the page. */
export function applyMode(): void {
  const root = document.documentElement;
  root.classList.toggle("dark", isDark());
  const colors = getComputedStyle(root);
  for (const mark of MARKS)
    root.style.setProperty(`--mark-${mark}`, markImage(mark, colors.getPropertyValue(`--v-${mark}`)));
}

/** Change between light and dark, and remember it. */
export function toggleMode(): void {
  localStorage.setItem(KEY, isDark() ? "no" : "yes");
  applyMode();
}
