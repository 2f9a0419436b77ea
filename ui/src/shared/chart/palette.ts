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
