import { useEffect, useState } from "react";

export type Theme = "light" | "dark";

const media = window.matchMedia("(prefers-color-scheme: dark)");
const stored = () => localStorage.getItem("theme") as Theme | null;

/** useTheme follows the system until the reader chooses. */
export function useTheme(): [Theme, () => void] {
  const [theme, setTheme] = useState<Theme>(stored() ?? (media.matches ? "dark" : "light"));
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
  }, [theme]);
  useEffect(() => {
    const follow = () => stored() ?? setTheme(media.matches ? "dark" : "light");
    media.addEventListener("change", follow);
    return () => media.removeEventListener("change", follow);
  }, []);
  return [
    theme,
    () => {
      const next = theme === "dark" ? "light" : "dark";
      localStorage.setItem("theme", next);
      setTheme(next);
    },
  ];
}
