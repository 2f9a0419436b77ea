import { createContext, type ReactNode, useContext, useLayoutEffect, useState } from "react";

type Theme = "light" | "dim";

const Context = createContext<{ theme: Theme; toggle: () => void }>({ theme: "light", toggle: () => {} });

function stored(): Theme {
  try {
    return localStorage.getItem("flinch.theme") === "dim" ? "dim" : "light";
  } catch {
    return "light";
  }
}

/** Light by default; dim on request, remembered in this browser. */
export function ThemeProvider({ children }: { children: ReactNode }) {
  const [theme, setTheme] = useState<Theme>(stored);
  // Before children read the style sheet.
  document.documentElement.dataset.bsTheme = theme === "dim" ? "dark" : "light";
  useLayoutEffect(() => {
    try {
      localStorage.setItem("flinch.theme", theme);
    } catch {
      // A browser that keeps nothing still shows both themes.
    }
  }, [theme]);
  const toggle = () => setTheme(theme === "dim" ? "light" : "dim");
  return <Context.Provider value={{ theme, toggle }}>{children}</Context.Provider>;
}

export const useTheme = () => useContext(Context);
