import { useEffect } from "react";

/** Ctrl+Z and Ctrl+Y outside of fields: they have an undo of their own. */
export function useUndoKeys(back: (way: "back" | "forth") => void) {
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const letter = (e.ctrlKey || e.metaKey) && !e.altKey ? e.key.toLowerCase() : "";
      if (
        (letter !== "z" && letter !== "y") ||
        (e.target as HTMLElement).closest("input, textarea, [contenteditable=true], [role=dialog]")
      )
        return;
      e.preventDefault();
      back(letter === "y" || e.shiftKey ? "forth" : "back");
    };
    window.addEventListener("keydown", key);
    return () => {
      window.removeEventListener("keydown", key);
    };
  }, [back]);
}
