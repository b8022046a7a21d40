const key = "trellis-theme";

export const theme = (): "light" | "dark" => {
  const kept = localStorage.getItem(key);
  if (kept === "light" || kept === "dark") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
};

export const setTheme = (t: "light" | "dark") => {
  localStorage.setItem(key, t);
  document.documentElement.dataset["theme"] = t;
};
