import { useMemo } from "react";
import { useTheme } from "@/frame/theme";

export type Palette = Record<"ink" | "paper" | "muted" | "rule" | "accent" | "solid" | "wash", string>;

/** The theme's colours, for charts that cannot read them from the style sheet. */
export function usePalette(): Palette {
  const { theme } = useTheme();
  // biome-ignore lint/correctness/useExhaustiveDependencies: the style sheet's values change with the theme
  return useMemo(() => {
    const style = getComputedStyle(document.documentElement);
    const read = (name: string) => style.getPropertyValue(`--f-${name}`).trim();
    return {
      ink: read("ink"),
      paper: read("paper"),
      muted: read("muted"),
      rule: read("rule"),
      accent: read("accent"),
      solid: read("solid"),
      wash: read("wash"),
    };
  }, [theme]);
}

/** What every chart has in common: no motion, our type, and a plain framed tooltip. */
export function chartBase(c: Palette) {
  return {
    animation: false,
    textStyle: { fontFamily: "inherit", color: c.ink },
    tooltip: {
      backgroundColor: c.paper,
      borderColor: c.ink,
      borderWidth: 1,
      padding: [4, 8],
      extraCssText: "border-radius:0;box-shadow:none",
      textStyle: { color: c.ink, fontSize: 13 },
    },
  };
}
