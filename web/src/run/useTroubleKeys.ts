import { useEffect } from "react";
import { seek } from "../lattice/keys";

/** n and p go to the next and the last trouble from anywhere on the page but fields. */
export function useTroubleKeys() {
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (
        (e.key !== "n" && e.key !== "p") ||
        e.ctrlKey ||
        e.metaKey ||
        e.altKey ||
        !(e.target instanceof Element) ||
        e.target.closest("input, textarea, select, [contenteditable=true], [role=dialog], [role=menu]") ||
        e.target.matches("[role=grid]")
      )
        return;
      e.preventDefault();
      const grids = [...document.querySelectorAll<HTMLElement>("[role=grid]")];
      seek(e.key === "n" ? grids[0] : grids.at(-1), e.key === "n" ? 1 : -1);
    };
    window.addEventListener("keydown", key);
    return () => {
      window.removeEventListener("keydown", key);
    };
  }, []);
}
